"""Distance of two convex shapes by their vertices (GJK), and where the nearest points lie.

A sphere is one vertex with a radius, a capsule two; boxes, hulls and triangles have none. All in world axes.
Sources: Gilbert, Johnson & Keerthi 1988, A Fast Procedure for Computing the Distance; van den Bergen 2003, Collision
Detection in Interactive 3D Environments; Ericson 2005, Real-Time Collision Detection, 5.1 (closest points of simplices).
"""

import math

from artuline.core.physics.kernels import ZERO, compiled, inlined
from artuline.core.physics.state import SIMPLEX, WITNESS

FAR, NEAR_BY, OVERLAP = range(3)


@inlined
def vertex(S, G, s, i):
    """World place of vertex i of a shape."""
    v, r, at = G[S[s].first[0] + i], S[s].r, S[s].at
    return (
        at[0] + r[0, 0] * v[0] + r[0, 1] * v[1] + r[0, 2] * v[2],
        at[1] + r[1, 0] * v[0] + r[1, 1] * v[1] + r[1, 2] * v[2],
        at[2] + r[2, 0] * v[0] + r[2, 1] * v[1] + r[2, 2] * v[2],
    )


@compiled
def support(S, G, s, dx, dy, dz):
    """The vertex of a shape that lies farthest along a world direction."""
    r = S[s].r
    x = r[0, 0] * dx + r[1, 0] * dy + r[2, 0] * dz
    y = r[0, 1] * dx + r[1, 1] * dy + r[2, 1] * dz
    z = r[0, 2] * dx + r[1, 2] * dy + r[2, 2] * dz
    first = S[s].first[0]
    best, most = 0, -1e300
    for i in range(S[s].count[0]):
        d = G[first + i, 0] * x + G[first + i, 1] * y + G[first + i, 2] * z
        if d > most:
            best, most = i, d
    return best


@inlined
def _segment(Q, i, j):
    """Nearest point to the origin of the segment of rows i and j: its weight on j."""
    s, t = 0.0, 0.0
    for k in range(3):
        e = Q[j, k] - Q[i, k]
        s -= Q[i, k] * e
        t += e * e
    return min(max(s / t, 0.0), 1.0) if t > 1e-300 else 0.0


@inlined
def _triangle(Q, i, j, k):
    """Weights of the nearest point to the origin of the triangle of rows i, j, k."""
    d1, d2, d3, d4, d5, d6 = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
    for m in range(3):
        ab, ac = Q[j, m] - Q[i, m], Q[k, m] - Q[i, m]
        d1 -= ab * Q[i, m]
        d2 -= ac * Q[i, m]
        d3 -= ab * Q[j, m]
        d4 -= ac * Q[j, m]
        d5 -= ab * Q[k, m]
        d6 -= ac * Q[k, m]
    if d1 <= 0.0 and d2 <= 0.0:
        return 1.0, 0.0, 0.0
    if d3 >= 0.0 and d4 <= d3:
        return 0.0, 1.0, 0.0
    vc = d1 * d4 - d3 * d2
    if vc <= 0.0 and d1 >= 0.0 and d3 <= 0.0:
        w = d1 / (d1 - d3)
        return 1.0 - w, w, 0.0
    if d6 >= 0.0 and d5 <= d6:
        return 0.0, 0.0, 1.0
    vb = d5 * d2 - d1 * d6
    if vb <= 0.0 and d2 >= 0.0 and d6 <= 0.0:
        w = d2 / (d2 - d6)
        return 1.0 - w, 0.0, w
    va = d3 * d6 - d5 * d4
    if va <= 0.0 and d4 - d3 >= 0.0 and d5 - d6 >= 0.0:
        w = (d4 - d3) / ((d4 - d3) + (d5 - d6))
        return 0.0, 1.0 - w, w
    s = 1.0 / (va + vb + vc)
    return 1.0 - (vb + vc) * s, vb * s, vc * s


@inlined
def _outside_of(Q, i, j, k, m):
    """Whether the origin lies on the other side of the plane of rows i, j, k than row m."""
    ax, ay, az = Q[j, 0] - Q[i, 0], Q[j, 1] - Q[i, 1], Q[j, 2] - Q[i, 2]
    bx, by, bz = Q[k, 0] - Q[i, 0], Q[k, 1] - Q[i, 1], Q[k, 2] - Q[i, 2]
    nx, ny, nz = ay * bz - az * by, az * bx - ax * bz, ax * by - ay * bx
    o = -(nx * Q[i, 0] + ny * Q[i, 1] + nz * Q[i, 2])
    p = nx * (Q[m, 0] - Q[i, 0]) + ny * (Q[m, 1] - Q[i, 1]) + nz * (Q[m, 2] - Q[i, 2])
    return o * p <= 0.0


@inlined
def _weigh(Q, count):
    """Set the weights (column 5) of the nearest point of the simplex; False if the origin is inside."""
    if count == 1:
        Q[0, 5] = 1.0
    elif count == 2:
        Q[1, 5] = _segment(Q, 0, 1)
        Q[0, 5] = 1.0 - Q[1, 5]
    elif count == 3:
        Q[0, 5], Q[1, 5], Q[2, 5] = _triangle(Q, ZERO, ZERO + 1, ZERO + 2)
    else:
        best, inside = 1e300, True
        b0, b1, b2, b3 = 0.0, 0.0, 0.0, 0.0
        for f in range(4):
            i = 0 if f < 3 else 1
            j = 1 if f < 2 else 2
            k = 2 if f == 0 else 3
            m = 3 - f
            if not _outside_of(Q, i, j, k, m):
                continue
            inside = False
            wi, wj, wk = _triangle(Q, i, j, k)
            d = 0.0
            for c in range(3):
                d += (wi * Q[i, c] + wj * Q[j, c] + wk * Q[k, c]) ** 2
            if d < best:
                best = d
                w0 = wi if i == 0 else 0.0
                w1 = wj if j == 1 else (wi if i == 1 else 0.0)
                w2 = wk if k == 2 else (wj if j == 2 else 0.0)
                w3 = wk if k == 3 else 0.0
                b0, b1, b2, b3 = w0, w1, w2, w3
        if inside:
            return False
        Q[0, 5], Q[1, 5], Q[2, 5], Q[3, 5] = b0, b1, b2, b3
    return True


@compiled
def gjk(S, G, a, b, most):
    """Distance of the cores of two shapes: FAR (more than ``most``), NEAR_BY or OVERLAP, and the distance.

    NEAR_BY leaves the nearest points of a and b and the unit normal from b to a in the rows WITNESS of G, and the
    simplex, with the vertices' numbers and weights, in the rows SIMPLEX; returns their count too.
    """
    Q = G[SIMPLEX : SIMPLEX + 4]
    vx, vy, vz = S[a].at[0] - S[b].at[0], S[a].at[1] - S[b].at[1], S[a].at[2] - S[b].at[2]
    square = vx * vx + vy * vy + vz * vz
    if square < 1e-12:
        vx, vy, vz, square = 1.0, 0.0, 0.0, 1.0
    count = 0
    for _ in range(40):
        ia, ib = support(S, G, a, -vx, -vy, -vz), support(S, G, b, vx, vy, vz)
        ax, ay, az = vertex(S, G, a, ia)
        bx, by, bz = vertex(S, G, b, ib)
        wx, wy, wz = ax - bx, ay - by, az - bz
        along = vx * wx + vy * wy + vz * wz
        if along > 0.0 and along * along > most * most * square:
            return FAR, most, 0
        if count > 0 and square - along <= 1e-9 * square:
            break
        again = False
        for i in range(count):
            again = again or (Q[i, 3] == ia and Q[i, 4] == ib)
        if again:
            break
        Q[count, 0], Q[count, 1], Q[count, 2], Q[count, 3], Q[count, 4] = wx, wy, wz, ia, ib
        count += 1
        if not _weigh(Q, count):
            return OVERLAP, 0.0, 0
        kept = 0
        vx, vy, vz = 0.0, 0.0, 0.0
        for i in range(count):
            if Q[i, 5] > 0.0:
                for k in range(6):
                    Q[kept, k] = Q[i, k]
                vx, vy, vz = vx + Q[i, 5] * Q[i, 0], vy + Q[i, 5] * Q[i, 1], vz + Q[i, 5] * Q[i, 2]
                kept += 1
        count = kept
        new = vx * vx + vy * vy + vz * vz
        if new < 1e-14:
            return OVERLAP, 0.0, 0
        square = new
    d = math.sqrt(square)
    if d > most:
        return FAR, most, 0
    P = G[WITNESS : WITNESS + 3]
    for k in range(3):
        P[0, k], P[1, k] = 0.0, 0.0
    for i in range(count):
        ax, ay, az = vertex(S, G, a, int(Q[i, 3]))
        bx, by, bz = vertex(S, G, b, int(Q[i, 4]))
        w = Q[i, 5]
        P[0, 0], P[0, 1], P[0, 2] = P[0, 0] + w * ax, P[0, 1] + w * ay, P[0, 2] + w * az
        P[1, 0], P[1, 1], P[1, 2] = P[1, 0] + w * bx, P[1, 1] + w * by, P[1, 2] + w * bz
    P[2, 0], P[2, 1], P[2, 2] = vx / d, vy / d, vz / d
    return NEAR_BY, d, count
