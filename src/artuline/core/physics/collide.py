"""Which shapes touch: a list of near pairs for every frame, contact points for every substep.

Normals point from shape b to shape a; a gap below zero is a penetration. Points are found as far apart as the shapes can
come together within the substep, so that nothing passes through (speculative contacts).
"""

import math

from artuline.core.physics.boxes import box_box
from artuline.core.physics.kernels import compiled, inlined
from artuline.core.physics.points import place_shapes
from artuline.core.physics.polyhedra import convex, hull_plane, shape_mesh
from artuline.core.physics.rounds import box_plane, round_box, round_plane, round_round
from artuline.core.physics.state import BOX, CONTACTS, HULL, MESH, NEAR, PLANE

ALLOWED = 0.1  # share of its speed that a body's velocity may change by before the list of near pairs is made anew
LEAST_SPEED = 0.6  # m/s that is allowed for at least
TOUCH = 0.002  # metres: points this close are contacts at any speed


@inlined
def _speed(B, S, s):
    """Bound on how fast any point of a shape moves."""
    b = S[s].body
    if b < 0:
        return 0.0
    v = math.sqrt(B[b].v[0] ** 2 + B[b].v[1] ** 2 + B[b].v[2] ** 2)
    w = math.sqrt(B[b].w[0] ** 2 + B[b].w[1] ** 2 + B[b].w[2] ** 2)
    arm = math.sqrt(S[s].position[0] ** 2 + S[s].position[1] ** 2 + S[s].position[2] ** 2) + S[s].reach
    return v + w * arm


@inlined
def _gap_bound(S, a, b):
    """A distance that two shapes are apart at least, by their bounding spheres."""
    dx, dy, dz = S[a].at[0] - S[b].at[0], S[a].at[1] - S[b].at[1], S[a].at[2] - S[b].at[2]
    if S[b].kind == PLANE:
        return dx * S[b].r[0, 1] + dy * S[b].r[1, 1] + dz * S[b].r[2, 1] - S[a].reach
    return math.sqrt(dx * dx + dy * dy + dz * dz) - S[a].reach - S[b].reach


@compiled
def find_near(B, S, P, N, K, dt):
    """Fill N with the pairs that may touch within dt; ``fastest`` of the bodies says up to which change of velocity."""
    place_shapes(B, S)
    for i in range(B.shape[0]):
        v = B[i].v
        for k in range(3):
            B[i].listed[k] = v[k]
        B[i].fastest = ALLOWED * math.sqrt(v[0] * v[0] + v[1] * v[1] + v[2] * v[2]) + LEAST_SPEED
    K[NEAR] = 0
    for k in range(P.shape[0]):
        a, b = P[k].a, P[k].b
        ba, bb = S[a].body, S[b].body
        reach = TOUCH + S[a].margin + S[b].margin
        vx, vy, vz = 0.0, 0.0, 0.0
        for s in range(2):
            i = ba if s == 0 else bb
            if i >= 0:
                sign = 1.0 if s == 0 else -1.0
                vx, vy, vz = vx + sign * B[i].v[0], vy + sign * B[i].v[1], vz + sign * B[i].v[2]
                arm = 1.3 * math.sqrt(B[i].w[0] ** 2 + B[i].w[1] ** 2 + B[i].w[2] ** 2) * S[a if s == 0 else b].reach
                reach += dt * (B[i].fastest + arm)
        if _gap_bound(S, a, b) < reach + dt * math.sqrt(vx * vx + vy * vy + vz * vz):
            N[K[NEAR]] = k
            K[NEAR] += 1
        else:
            P[k].olds = 0
            P[k].incoming[0] = 0.0


@compiled
def still_near(B):
    """Whether no body's velocity has changed by more than the list of near pairs allows for."""
    for i in range(B.shape[0]):
        v, l = B[i].v, B[i].listed
        if (v[0] - l[0]) ** 2 + (v[1] - l[1]) ** 2 + (v[2] - l[2]) ** 2 > B[i].fastest * B[i].fastest:
            return False
    return True


@compiled
def find_contacts(B, S, P, N, C, K, G, h):
    """Fill C with all contacts closer than what can close within h. G: vertices, faces and edges of hulls."""
    K[CONTACTS] = 0
    place_shapes(B, S)
    for n in range(K[NEAR]):
        k = N[n]
        a, b = P[k].a, P[k].b
        ba, bb = S[a].body, S[b].body
        if not ((ba >= 0 and B[ba].free) or (bb >= 0 and B[bb].free)):
            continue
        thick = S[a].margin + S[b].margin
        margin = h * (_speed(B, S, a) + _speed(B, S, b)) + TOUCH + thick
        if _gap_bound(S, a, b) > margin:
            continue
        first = K[CONTACTS]
        _narrow(C, S, K, G, a, b, margin)
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
