"""Which shapes touch: a list of near pairs for every frame, contact points for every substep.

Normals point from shape b to shape a; a gap below zero is a penetration. Points are found as far apart as the shapes can
come together within the substep, so that nothing passes through (speculative contacts).
"""

import math

from artuline.core.physics.boxes import box_box
from artuline.core.physics.kernels import compiled, inlined
from artuline.core.physics.parts import cell_of
from artuline.core.physics.points import place_shape, place_shapes
from artuline.core.physics.polyhedra import convex, hull_plane, shape_mesh
from artuline.core.physics.rounds import box_plane, round_box, round_plane, round_round
from artuline.core.physics.skins import shape_skin
from artuline.core.physics.state import BOX, CAPSULE, CONTACTS, FULL, HULL, MESH, NEAR, PLANE, SKIN

ALLOWED = 0.1  # share of its speed that a body's velocity may change by before the list of near pairs is made anew
LEAST_SPEED = 0.6  # m/s that is allowed for at least
TOUCH = 0.002  # metres: points this close are contacts at any speed


@inlined
def _bound_speed(B, S, s):
    """Bound how fast the points of shape s move."""
    b, place = S[s].body, S[s].position
    if b < 0:
        return
    v, w = B[b].v, B[b].w
    arm = math.sqrt(place[0] ** 2 + place[1] ** 2 + place[2] ** 2) + S[s].reach
    spin = math.sqrt(w[0] ** 2 + w[1] ** 2 + w[2] ** 2)
    S[s].speed = math.sqrt(v[0] ** 2 + v[1] ** 2 + v[2] ** 2) + spin * arm + S[s].flow


@inlined
def _gap_bound(S, a, b):
    """A distance that two shapes are apart at least, by their bounding spheres."""
    dx, dy, dz = S[a].at[0] - S[b].at[0], S[a].at[1] - S[b].at[1], S[a].at[2] - S[b].at[2]
    if S[b].kind == PLANE:
        return dx * S[b].r[0, 1] + dy * S[b].r[1, 1] + dz * S[b].r[2, 1] - S[a].reach
    return math.sqrt(dx * dx + dy * dy + dz * dz) - S[a].reach - S[b].reach


@inlined
def bound(B, S, dt):
    """Boxes that hold the shapes for dt, however their bodies' velocities change as far as ``fastest`` allows."""
    for s in range(S.shape[0]):
        b, low, high, at = S[s].body, S[s].low, S[s].high, S[s].at
        if S[s].kind == PLANE:
            for k in range(3):
                low[k], high[k] = -math.inf, math.inf
            continue
        r = S[s].reach + S[s].margin + 0.5 * TOUCH
        if b >= 0:
            r += dt * (B[b].fastest + _spin(B, b) * S[s].reach)
        for k in range(3):
            way = dt * B[b].listed[k] if b >= 0 else 0.0
            low[k], high[k] = at[k] + min(way, 0.0) - r, at[k] + max(way, 0.0) + r


@inlined
def _spin(B, i):
    """Bound on how fast body i may come to turn."""
    return 1.3 * math.sqrt(B[i].w[0] ** 2 + B[i].w[1] ** 2 + B[i].w[2] ** 2)


@inlined
def sort(S, row):
    """Sort the shapes by where their boxes begin along x; nearly sorted already, from the time before."""
    for n in range(1, row.shape[0]):
        s, t = row[n], n
        x = S[s].low[0]
        while t > 0 and (S[row[t - 1]].low[0] > x or (S[row[t - 1]].low[0] == x and row[t - 1] > s)):
            row[t] = row[t - 1]
            t -= 1
        row[t] = s


@inlined
def listed_apart(X, i, j):
    """Whether X says that the bodies of these numbers do not collide."""
    apart = False
    for k in range(X[1 + i], X[2 + i]):
        apart = apart or X[k] == j
    return apart


@inlined
def may_collide(B, S, X, s, t):
    """Whether shapes s and t collide at all. X: whose bodies do not (``apart_of``)."""
    a, b = S[s].body, S[t].body
    if S[s].silent or S[t].silent or a == b or (S[s].kind >= MESH and S[t].kind >= MESH):
        return False
    if a >= 0 and b >= 0 and B[a].group >= 0 and B[a].group == B[b].group:
        return False
    if S[s].kind == SKIN or S[t].kind == SKIN:
        # of what is not a skin
        r = t if S[s].kind == SKIN else s
        if not S[r].drapes or S[r].kind > CAPSULE:
            return False
    elif (S[s].drapes and S[t].skinned and S[s].kind <= CAPSULE) or (
        S[t].drapes and S[s].skinned and S[t].kind <= CAPSULE
    ):
        return False
    i = B[a].id if a >= 0 else X[0]
    j = B[b].id if b >= 0 else X[0]
    return not listed_apart(X, i, j)


@inlined
def _slot(P, H, a, b):
    """Where the table H has the pair of shapes a and b of P, or would have it."""
    k = (a * 73856093 ^ b * 19349663) & (H.shape[0] - 1)
    while H[k] >= 0 and (P[H[k]].a != a or P[H[k]].b != b):
        k = (k + 1) & (H.shape[0] - 1)
    return k


@inlined
def list_velocities(B):
    """Note the velocities that a list of near pairs goes by, and how far they may change."""
    for i in range(B.shape[0]):
        v = B[i].v
        for k in range(3):
            B[i].listed[k] = v[k]
        B[i].fastest = ALLOWED * math.sqrt(v[0] * v[0] + v[1] * v[1] + v[2] * v[2]) + LEAST_SPEED


@compiled
def find_near(B, S, P, Q, H, X, K, row, dt):
    """Fill P with the pairs that may touch within dt; ``fastest`` of the bodies says up to which change of velocity.

    By sweep and prune (Cohen et al. 1995, I-COLLIDE). row (s,): the shapes, as sorted the time before; Q: room for as many pairs
    as P; H: a table all -1, of a power of two and more than there are pairs; X: as in ``may_collide``. Pairs that were near before keep
    what is remembered of them. Where there are more than P has room for, they are left out and FULL is set.
    """
    place_shapes(B, S)
    list_velocities(B)
    bound(B, S, dt)
    sort(S, row)
    for k in range(K[NEAR]):
        if P[k].olds > 0 or P[k].incoming[0] > 0.0:
            P[k].slot = _slot(P, H, P[k].a, P[k].b)
            H[P[k].slot] = k
        else:
            P[k].slot = -1
    count = 0
    for n in range(row.shape[0]):
        s = row[n]
        for m in range(n + 1, row.shape[0]):
            t = row[m]
            if S[t].low[0] > S[s].high[0]:
                break
            if S[t].low[1] > S[s].high[1] or S[s].low[1] > S[t].high[1]:
                continue
            if S[t].low[2] > S[s].high[2] or S[s].low[2] > S[t].high[2] or not may_collide(B, S, X, s, t):
                continue
            first = S[s].kind < S[t].kind or (S[s].kind == S[t].kind and S[s].rank < S[t].rank)
            a, b = (s, t) if first else (t, s)
            if not may_touch(B, S, a, b, dt):
                continue
            if count == Q.shape[0]:
                K[FULL] = 1
                break
            k = H[_slot(P, H, a, b)]
            if k >= 0:
                Q[count] = P[k]
            else:
                Q[count].a, Q[count].b, Q[count].old, Q[count].olds = a, b, 0, 0
                Q[count].incoming[0], Q[count].incoming[1] = 0.0, 0.0
            count += 1
    for k in range(K[NEAR]):
        if P[k].slot >= 0:
            H[P[k].slot] = -1
    for k in range(count):
        P[k] = Q[k]
    K[NEAR] = count


@inlined
def may_touch(B, S, a, b, dt):
    """Whether two shapes may touch within dt, with the velocities as listed."""
    reach = TOUCH + S[a].margin + S[b].margin
    vx, vy, vz = 0.0, 0.0, 0.0
    for e in range(2):
        s, sign = (a, 1.0) if e == 0 else (b, -1.0)
        i = S[s].body
        if i >= 0:
            v = B[i].listed
            vx, vy, vz = vx + sign * v[0], vy + sign * v[1], vz + sign * v[2]
            reach += dt * (B[i].fastest + _spin(B, i) * S[s].reach)
    return _gap_bound(S, a, b) < reach + dt * math.sqrt(vx * vx + vy * vy + vz * vz)


@compiled
def still_near(B):
    """Whether no body's velocity has changed by more than the list of near pairs allows for."""
    for i in range(B.shape[0]):
        v, l = B[i].v, B[i].listed
        if (v[0] - l[0]) ** 2 + (v[1] - l[1]) ** 2 + (v[2] - l[2]) ** 2 > B[i].fastest * B[i].fastest:
            return False
    return True


@compiled
def find_contacts(B, S, P, near, C, K, G, part_of, part, h):
    """Fill C with all contacts of the pairs ``near`` that are closer than what can close within h. G: vertices, faces and edges of hulls.

    part_of: of the bodies' cells; part: which of these parts to look at, or -1 for all.
    """
    K[CONTACTS] = 0
    for s in range(S.shape[0]):
        cell = cell_of(B, S, s)
        if part < 0 or cell < 0 or part_of[cell] == part:
            place_shape(B, S, s)
            _bound_speed(B, S, s)
    for n in range(near.shape[0]):
        k = near[n]
        a, b = P[k].a, P[k].b
        ba, bb = S[a].body, S[b].body
        if not ((ba >= 0 and B[ba].free) or (bb >= 0 and B[bb].free)):
            continue
        thick = S[a].margin + S[b].margin
        margin = h * (S[a].speed + S[b].speed) + TOUCH + thick
        if _gap_bound(S, a, b) > margin:
            continue
        first = K[CONTACTS]
        if S[b].kind == SKIN:
            shape_skin(B, C, S, K, G, a, b, margin, h)
        else:
            _narrow(C, S, K, G, a, b, margin)
            for i in range(first, K[CONTACTS]):
                C[i].carry[0], C[i].carry[1], C[i].carry[2] = 0.0, 0.0, 0.0
        for i in range(first, K[CONTACTS]):
            C[i].pair = k
            C[i].gap -= thick


@inlined
def _narrow(C, S, K, G, a, b, margin):
    """Contact points of one pair; kind[a] <= kind[b]."""
    ka, kb = S[a].kind, S[b].kind
    if kb == PLANE:
        if ka == HULL:
            hull_plane(C, S, K, G, a, b, margin)
        elif ka == BOX:
            box_plane(C, S, K, a, b, margin)
        else:
            round_plane(C, S, K, a, b, margin)
    elif kb == MESH:
        shape_mesh(C, S, K, G, a, b, margin)
    elif kb == HULL:
        convex(C, S, K, G, a, b, margin)
    elif kb == BOX:
        if ka == BOX:
            box_box(C, S, K, G, a, b, margin)
        else:
            round_box(C, S, K, a, b, margin)
    else:
        round_round(C, S, K, a, b, margin)
