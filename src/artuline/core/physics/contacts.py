"""Contact rows: those with one free body join the direct solve, the others are swept in between.

A row with one free body adds ``K J^T J`` to that body's block, K being 10^4 of the inverse mass at the
point; the remainder is iterated away (method of multipliers), so contacts are hard, and the tree keeps its
structure. Coulomb friction switches between sticking rows and sliding forces.
"""

import math

from artuline.core.physics.kernels import compiled, cross, inlined
from artuline.core.physics.state import INACTIVE, SLIP, STICK
from artuline.core.physics.tree import backward, forward

HARD = 1e4  # stiffness of a contact row against the inverse mass at its point
SLOP = 1e-4  # metres of penetration left alone
PUSH = 0.15  # share of a penetration removed in a substep
PUSH_SPEED = 0.5  # m/s at most
MOST_FLIPS = 3  # times a contact may let go or catch in a substep, so that none goes round in circles
BOUNCE_SPEED = 0.2  # m/s: slower impacts do not bounce


@inlined
def _relative(B, C, i, trial):
    """Velocity of body a against b at contact i: the trial's, or that at the substep's start."""
    a, b = C[i].a, C[i].b
    p = C[i].point
    v, w = (B[a].tv, B[a].tw) if trial else (B[a].v, B[a].w)
    cx, cy, cz = cross(w[0], w[1], w[2], p[0] - B[a].x[0], p[1] - B[a].x[1], p[2] - B[a].x[2])
    ux, uy, uz = v[0] + cx, v[1] + cy, v[2] + cz
    if b >= 0:
        v, w = (B[b].tv, B[b].tw) if trial else (B[b].v, B[b].w)
        cx, cy, cz = cross(w[0], w[1], w[2], p[0] - B[b].x[0], p[1] - B[b].x[1], p[2] - B[b].x[2])
        ux, uy, uz = ux - v[0] - cx, uy - v[1] - cy, uz - v[2] - cz
    return ux, uy, uz


@inlined
def _along(d, k, ux, uy, uz):
    return d[k, 0] * ux + d[k, 1] * uy + d[k, 2] * uz


@inlined
def _normal_speed(C, i, ux, uy, uz):
    return C[i].normal[0] * ux + C[i].normal[1] * uy + C[i].normal[2] * uz


@inlined
def _inverse_mass(B, C, i, body, dx, dy, dz):
    """Inverse mass of a body against a push along d at contact i."""
    if body < 0 or not B[body].free:
        return 0.0
    tx, ty, tz = cross(
        C[i].point[0] - B[body].x[0], C[i].point[1] - B[body].x[1], C[i].point[2] - B[body].x[2], dx, dy, dz
    )
    sx, sy, sz = _apply_inverse(B, body, tx, ty, tz)
    return 1.0 / B[body].mass + tx * sx + ty * sy + tz * sz


@inlined
def _apply_inverse(B, i, tx, ty, tz):
    """The inverse world inertia of body i times t; for a symmetric 3x3."""
    a, b, c = B[i].M[0, 0], B[i].M[0, 1], B[i].M[0, 2]
    d, e, f = B[i].M[1, 1], B[i].M[1, 2], B[i].M[2, 2]
    k0, k1, k2 = d * f - e * e, c * e - b * f, b * e - c * d
    inv = 1.0 / (a * k0 + b * k1 + c * k2)
    return (
        inv * (k0 * tx + k1 * ty + k2 * tz),
        inv * (k1 * tx + (a * f - c * c) * ty + (b * c - a * e) * tz),
        inv * (k2 * tx + (b * c - a * e) * ty + (a * d - b * b) * tz),
    )


@compiled
def prepare_contacts(B, S, P, C, K, h):
    """Frames, wanted speeds and first states of all contacts. v, w: predicted velocities."""
    for k in range(P.shape[0]):
        P[k].incoming[1] = 0.0
    for i in range(K[0]):
        sa, sb = C[i].shapes[0], C[i].shapes[1]
        a, b = S[sa].body, S[sb].body
        if not (a >= 0 and B[a].free):
            a, b = b, a
            for k in range(3):
                C[i].normal[k] = -C[i].normal[k]
        C[i].a, C[i].b = a, b
        nx, ny, nz = C[i].normal[0], C[i].normal[1], C[i].normal[2]
        if abs(nx) < 0.6:
            tx, ty, tz = cross(nx, ny, nz, 1.0, 0.0, 0.0)
        else:
            tx, ty, tz = cross(nx, ny, nz, 0.0, 1.0, 0.0)
        s = 1.0 / math.sqrt(tx * tx + ty * ty + tz * tz)
        tx, ty, tz = tx * s, ty * s, tz * s
        C[i].tangent[0, 0], C[i].tangent[0, 1], C[i].tangent[0, 2] = tx, ty, tz
        C[i].tangent[1, 0], C[i].tangent[1, 1], C[i].tangent[1, 2] = cross(nx, ny, nz, tx, ty, tz)
        C[i].friction = math.sqrt(S[sa].friction * S[sb].friction)
        e = max(S[sa].restitution, S[sb].restitution)
        ux, uy, uz = _relative(B, C, i, False)
        before = _normal_speed(C, i, ux, uy, uz)
        ux, uy, uz = _relative(B, C, i, True)
        ahead = _normal_speed(C, i, ux, uy, uz)
        gap = C[i].gap
        if gap > 0.0:
            C[i].target = -gap / h
        else:
            C[i].target = min(max(-gap - SLOP, 0.0) * PUSH / h, PUSH_SPEED)
        # an impact first comes up to the surface, then bounces with the speed it came with
        k = C[i].pair
        speed = max(-before, P[k].incoming[0])
        if e > 0.0 and speed > BOUNCE_SPEED and gap + h * min(ahead, before) < 1e-6:
            if gap > 0.02 * h * speed:
                P[k].incoming[1] = max(P[k].incoming[1], speed)
            else:
                C[i].target = max(C[i].target, e * speed)
        inverse = _inverse_mass(B, C, i, a, nx, ny, nz) + _inverse_mass(B, C, i, b, nx, ny, nz)
        C[i].stiffness = HARD / inverse
        for q in range(3):
            C[i].impulse[q] = 0.0
            C[i].guess[q] = 0.0
            C[i].applied[q] = 0.0
        C[i].flips = 0
        C[i].state = STICK if ahead < C[i].target else INACTIVE
        if C[i].state == STICK:
            # a quick slide cannot stop within the substep: do not begin by sticking
            t1, t2 = _along(C[i].tangent, 0, ux, uy, uz), _along(C[i].tangent, 1, ux, uy, uz)
            most = 2.0 * C[i].friction * (C[i].target - ahead)
            if t1 * t1 + t2 * t2 > most * most:
                C[i].state = SLIP
                C[i].guess[1], C[i].guess[2] = -t1, -t2


@inlined
def both_free(B, C, i):
    """Whether a contact is between two free bodies."""
    return C[i].b >= 0 and B[C[i].b].free


@compiled
def add_blocks(B, C, K):
    """Add the rows of contacts with one free body to its block."""
    for i in range(K[0]):
        if C[i].state == INACTIVE or both_free(B, C, i):
            continue
        a = C[i].a
        rx, ry, rz = C[i].point[0] - B[a].x[0], C[i].point[1] - B[a].x[1], C[i].point[2] - B[a].x[2]
        for q in range(3 if C[i].state == STICK else 1):
            if q == 0:
                dx, dy, dz = C[i].normal[0], C[i].normal[1], C[i].normal[2]
            else:
                dx, dy, dz = C[i].tangent[q - 1, 0], C[i].tangent[q - 1, 1], C[i].tangent[q - 1, 2]
            tx, ty, tz = cross(rx, ry, rz, dx, dy, dz)
            k = C[i].stiffness
            row = (dx, dy, dz, tx, ty, tz)
            for m in range(6):
                for n in range(m + 1):
                    B[a].D[m, n] += k * row[m] * row[n]


@inlined
def _push(body, k, C, B, i, dx, dy, dz):
    """Add an impulse k d at contact i to a right side."""
    B[body].f[0] += k * dx
    B[body].f[1] += k * dy
    B[body].f[2] += k * dz
    tx, ty, tz = cross(
        C[i].point[0] - B[body].x[0], C[i].point[1] - B[body].x[1], C[i].point[2] - B[body].x[2],
        k * dx, k * dy, k * dz,
    )  # fmt: skip
    B[body].f[3] += tx
    B[body].f[4] += ty
    B[body].f[5] += tz


@compiled
def add_forces(B, C, K):
    """Right side of the contact rows, and the change of the sliding friction forces."""
    for i in range(K[0]):
        if both_free(B, C, i):
            _swept_forces(B, C, i)
            continue
        if C[i].state == INACTIVE:
            continue
        a = C[i].a
        ux, uy, uz = _relative(B, C, i, True)
        k = -C[i].stiffness * (_normal_speed(C, i, ux, uy, uz) - C[i].target)
        _push(a, k, C, B, i, C[i].normal[0], C[i].normal[1], C[i].normal[2])
        t1, t2 = _along(C[i].tangent, 0, ux, uy, uz), _along(C[i].tangent, 1, ux, uy, uz)
        if C[i].state == STICK:
            k1, k2 = -C[i].stiffness * t1, -C[i].stiffness * t2
        else:
            # against the sliding, or as the sticking force pointed while the sliding has not begun
            size = C[i].friction * max(max(C[i].impulse[0], C[i].guess[0]), 0.0)
            g1, g2 = C[i].guess[1], C[i].guess[2]
            length = math.sqrt(g1 * g1 + g2 * g2)
            k1 = (size * g1 / length if length > 0.0 else 0.0) - C[i].impulse[1]
            k2 = (size * g2 / length if length > 0.0 else 0.0) - C[i].impulse[2]
            C[i].impulse[1] += k1
            C[i].impulse[2] += k2
        _push(a, k1, C, B, i, C[i].tangent[0, 0], C[i].tangent[0, 1], C[i].tangent[0, 2])
        _push(a, k2, C, B, i, C[i].tangent[1, 0], C[i].tangent[1, 1], C[i].tangent[1, 2])


@compiled
def update_contacts(B, C, K, catch, release):
    """Impulses after a solve, and new states. ``catch``: contacts may begin to push or slide, ``release``:
    let go or stick. Returns whether any state changed, and the largest relative change of a sliding force.
    """
    changed = False
    slide = 0.0
    for i in range(K[0]):
        if both_free(B, C, i):
            continue
        ux, uy, uz = _relative(B, C, i, True)
        un = _normal_speed(C, i, ux, uy, uz)
        if C[i].state == INACTIVE:
            if catch and un < C[i].target - 1e-7:
                C[i].state = STICK
                changed = True
            continue
        k = C[i].stiffness
        C[i].impulse[0] -= k * (un - C[i].target)
        t1, t2 = _along(C[i].tangent, 0, ux, uy, uz), _along(C[i].tangent, 1, ux, uy, uz)
        most = C[i].friction * max(C[i].impulse[0], 0.0)
        if C[i].state == STICK:
            C[i].impulse[1] -= k * t1
            C[i].impulse[2] -= k * t2
            size = math.sqrt(C[i].impulse[1] ** 2 + C[i].impulse[2] ** 2)
            C[i].guess[1], C[i].guess[2] = C[i].impulse[1], C[i].impulse[2]
            if catch and size > most * 1.0001:
                C[i].state = SLIP
                changed = True
        else:
            size = math.sqrt(C[i].impulse[1] ** 2 + C[i].impulse[2] ** 2)
            slide = max(slide, abs(size - most) / max(most, 1e-9)) if most > 0.0 else slide
            speed = math.sqrt(t1 * t1 + t2 * t2)
            forward_push = t1 * C[i].impulse[1] + t2 * C[i].impulse[2] > 1e-5 * size
            if release and forward_push and C[i].flips < MOST_FLIPS:
                C[i].state = STICK
                C[i].flips += 1
                changed = True
            elif speed > 1e-6:
                C[i].guess[1], C[i].guess[2] = -t1, -t2
        C[i].guess[0] = max(C[i].impulse[0], 0.0)
        if release and C[i].impulse[0] < 0.0 and C[i].flips < MOST_FLIPS:
            C[i].state = INACTIVE
            C[i].flips += 1
            C[i].guess[0] = 0.0
            changed = True
    return changed, slide


@compiled
def reset_impulses(B, C, K):
    """Forget the impulses of the contacts in the direct solve; the swept ones will be applied again."""
    for i in range(K[0]):
        free = both_free(B, C, i)
        for q in range(3):
            C[i].applied[q] = 0.0
            if not free:
                C[i].impulse[q] = 0.0


@inlined
def _block_kick(B, C, i, body, k, dx, dy, dz, apply):
    """Change of velocity of a body by an impulse k d at contact i, through its factored block.

    The block holds what hangs below the body and what it rests on, so a limb that lies on the ground does
    not give way. Returns k times the speed gained along d; ``apply``: add it to the trial velocity.
    """
    tx, ty, tz = cross(
        C[i].point[0] - B[body].x[0], C[i].point[1] - B[body].x[1], C[i].point[2] - B[body].x[2], dx, dy, dz
    )
    g = B[body].g
    g[0], g[1], g[2], g[3], g[4], g[5] = k * dx, k * dy, k * dz, k * tx, k * ty, k * tz
    forward(B[body].D, g)
    if not apply:
        s = 0.0
        for q in range(6):
            s += g[q] * g[q]
        return s
    backward(B[body].D, g)
    for q in range(3):
        B[body].tv[q] += g[q]
        B[body].tw[q] += g[3 + q]
    return 0.0


@inlined
def _pair_kick(B, C, i, k, dx, dy, dz):
    """Apply an impulse k d at contact i to both bodies, through their blocks."""
    _block_kick(B, C, i, C[i].a, k, dx, dy, dz, True)
    _block_kick(B, C, i, C[i].b, -k, dx, dy, dz, True)


@compiled
def sweep(B, C, K, sweeps):
    """Gauss-Seidel over the contacts between free bodies, each body standing for its factored block.

    Only the impulses are kept; the direct solve applies them exactly. Returns the largest change of speed.
    """
    for i in range(B.shape[0]):
        for q in range(3):
            B[i].sv[q], B[i].sv[3 + q] = B[i].tv[q], B[i].tw[q]
    worst = 0.0
    for _ in range(sweeps):
        for i in range(K[0]):
            if not both_free(B, C, i):
                continue
            ux, uy, uz = _relative(B, C, i, True)
            un = _normal_speed(C, i, ux, uy, uz)
            nx, ny, nz = C[i].normal[0], C[i].normal[1], C[i].normal[2]
            k = _block_kick(B, C, i, C[i].a, 1.0, nx, ny, nz, False)
            k += _block_kick(B, C, i, C[i].b, 1.0, nx, ny, nz, False)
            k = max(k, 1e-3 * HARD / C[i].stiffness)
            old = C[i].impulse[0]
            C[i].impulse[0] = max(old - (un - C[i].target) / k, 0.0)
            step = C[i].impulse[0] - old
            worst = max(worst, abs(step) * k)
            if step != 0.0:
                _pair_kick(B, C, i, step, nx, ny, nz)
            most = C[i].friction * C[i].impulse[0]
            old1, old2 = C[i].impulse[1], C[i].impulse[2]
            if most > 0.0 or old1 != 0.0 or old2 != 0.0:
                ux, uy, uz = _relative(B, C, i, True)
                d = C[i].tangent
                n1 = old1 - _along(d, 0, ux, uy, uz) / (2.0 * k)
                n2 = old2 - _along(d, 1, ux, uy, uz) / (2.0 * k)
                size = math.sqrt(n1 * n1 + n2 * n2)
                if size > most:
                    n1, n2 = n1 * most / size, n2 * most / size
                C[i].impulse[1], C[i].impulse[2] = n1, n2
                _pair_kick(B, C, i, n1 - old1, d[0, 0], d[0, 1], d[0, 2])
                _pair_kick(B, C, i, n2 - old2, d[1, 0], d[1, 1], d[1, 2])
    for i in range(B.shape[0]):
        for q in range(3):
            B[i].tv[q], B[i].tw[q] = B[i].sv[q], B[i].sv[3 + q]
    return worst


@inlined
def _swept_forces(B, C, i):
    """Add what the sweeps changed at contact i to the right side of both bodies."""
    for q in range(3):
        k = C[i].impulse[q] - C[i].applied[q]
        if k == 0.0:
            continue
        C[i].applied[q] = C[i].impulse[q]
        if q == 0:
            dx, dy, dz = C[i].normal[0], C[i].normal[1], C[i].normal[2]
        else:
            dx, dy, dz = C[i].tangent[q - 1, 0], C[i].tangent[q - 1, 1], C[i].tangent[q - 1, 2]
        _push(C[i].a, k, C, B, i, dx, dy, dz)
        _push(C[i].b, -k, C, B, i, dx, dy, dz)
