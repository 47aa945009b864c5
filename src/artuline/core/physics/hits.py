"""Hits that go through what touches: sequential impacts before the solve."""

from artuline.core.physics.kernels import compiled, cross, inlined, solve_symmetric
from artuline.core.physics.state import CONTACTS, PUSHING

OVER = 1 << 20  # mark of a contact that no hit goes through
MOST_HITS = 400  # that are passed on in a substep
BOUNCE_SPEED = 0.2  # m/s: slower impacts do not bounce


@inlined
def pair_end(C, K, i):
    """One behind the last contact of the pair of contact i."""
    p, end = C[i].pair, i
    while end < K[CONTACTS] and C[end].pair == p:
        end += 1
    return end


@inlined
def _deepest(C, i, end):
    """The contact with the least gap of those from i to before end."""
    best = i
    for k in range(i, end):
        if C[k].gap < C[best].gap:
            best = k
    return best


@inlined
def _speed_apart(B, C, i):
    """Speed at which the bodies of contact i part, with the velocities g."""
    a, b, n, r = C[i].a, C[i].b, C[i].normal, C[i].ra
    g = B[a].g
    x, y, z = cross(g[3], g[4], g[5], r[0], r[1], r[2])
    s = n[0] * (g[0] + x) + n[1] * (g[1] + y) + n[2] * (g[2] + z)
    if b >= 0:
        g, r = B[b].g, C[i].rb
        x, y, z = cross(g[3], g[4], g[5], r[0], r[1], r[2])
        s -= n[0] * (g[0] + x) + n[1] * (g[1] + y) + n[2] * (g[2] + z)
    return s


@inlined
def _strike(B, i, n, r, p):
    """Change the velocity g of body i by an impulse p along n at an arm."""
    if i < 0 or not B[i].free:
        return
    g, M = B[i].g, B[i].M
    tx, ty, tz = cross(r[0], r[1], r[2], n[0], n[1], n[2])
    wx, wy, wz = solve_symmetric(M, p * tx, p * ty, p * tz)
    for k in range(3):
        g[k] += p * n[k] / B[i].mass
    g[3], g[4], g[5] = g[3] + wx, g[4] + wy, g[5] + wz


@compiled
def pass_hits(B, C, K, h):
    """Where what is hit stands against others, the hit goes through them: pair after pair in the order of closing speed.

    Newton's law of impact at each, with the bodies by themselves (Ivanov 1995, On Multiple Impact; sequential impacts); the speeds at
    which they part in the end are what the contacts are to leave with, though none leaves faster than the fastest hit would let it.
    Begins with the velocities from before the bodies came up to each other. Hits that are not passed on stay as they are.
    """
    for c in range(K[CONTACTS]):
        for e in range(2):
            i = C[c].a if e == 0 else C[c].b
            if i >= 0:
                for k in range(3):
                    B[i].g[k] = B[i].was[k] if B[i].free else B[i].v[k]
                    B[i].g[3 + k] = B[i].was[3 + k] if B[i].free else B[i].w[k]
    # those that closed before and do not bounce now have had their hit already
    i, fastest = 0, 0.0
    while i < K[CONTACTS]:
        end = pair_end(C, K, i)
        k = _deepest(C, i, end)
        closing = -_speed_apart(B, C, k)
        for l in range(i, end):
            C[l].turns = 0
        if C[k].target > 0.0:
            fastest = max(fastest, closing)
        elif C[k].bounce == 0.0 or closing > BOUNCE_SPEED:
            C[k].turns = OVER
        i = end
    for i in range(K[CONTACTS]):
        if C[i].turns == OVER and C[i].bounce > 0.0:
            for e in range(2):
                b = C[i].a if e == 0 else C[i].b
                if b >= 0:
                    for k in range(3):
                        B[b].g[k], B[b].g[3 + k] = B[b].v[k], B[b].w[k]
    hits, again = 0, False
    while hits < MOST_HITS:
        best, most, i = -1, BOUNCE_SPEED, 0
        while i < K[CONTACTS]:
            end = pair_end(C, K, i)
            k = _deepest(C, i, end)
            if C[k].turns != OVER:
                closing = -_speed_apart(B, C, k)
                if closing > most and C[k].gap < h * closing:
                    best, most = k, closing
            i = end
        if best < 0:
            break
        c = C[best]
        hits += 1
        again = again or c.turns > 0 or c.target <= 0.0
        c.turns += 1
        p = (1.0 + c.bounce) * most * c.mass
        _strike(B, c.a, c.normal, c.ra, p)
        _strike(B, c.b, c.normal, c.rb, -p)
    i = 0
    while i < K[CONTACTS]:
        end = pair_end(C, K, i)
        d = _deepest(C, i, end)
        struck = 0 < C[d].turns < OVER
        parting = min(max(_speed_apart(B, C, d), 0.0), C[d].bounce * fastest)
        for k in range(i, end):
            C[k].turns = 0
            if again and struck:
                C[k].target, C[k].state = parting, PUSHING
        i = end
