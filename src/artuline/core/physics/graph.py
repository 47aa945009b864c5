"""The direct solve: block L D L^T over bodies, from the leaves of the joints' trees to their roots.

The system of a substep is symmetric and positive definite::

    (M + sum of J^T k J) dv = f

M are the bodies' masses; every joint, link, contact and drive adds a stiffness k along its rows J, which couples
at most two bodies. Without loops the factors have no fill-in (Baraff 1996, Linear-Time Dynamics using Lagrange
Multipliers; Featherstone 2008, Rigid Body Dynamics Algorithms, ch. 6); loops and contacts between bodies add
a few blocks along the tree (George & Liu 1981, Computer Solution of Large Sparse Positive Definite Systems).
"""

from artuline.core.physics.kernels import compiled, inlined
from artuline.core.physics.state import MOST_NEIGHBOURS

ALONE = 40  # bodies of a part whose contacts are factored whatever they couple: a figure that folds up
FILL = 6  # pairs of neighbours a body, on average, up to which contacts between free bodies are factored


@inlined
def _connect(A, a, b):
    """Note that bodies a and b are coupled; False if there is no room. A (n, 1 + most): count, then neighbours."""
    n = A[a, 0]
    for s in range(n):
        if A[a, 1 + s] == b:
            return True
    if n >= MOST_NEIGHBOURS or A[b, 0] >= MOST_NEIGHBOURS:
        return False
    A[a, 1 + n] = b
    A[a, 0] = n + 1
    A[b, 1 + A[b, 0]] = a
    A[b, 0] += 1
    return True


@inlined
def _disconnect(A, a, b):
    n = A[a, 0]
    for s in range(n):
        if A[a, 1 + s] == b:
            A[a, 1 + s] = A[a, n]
            A[a, 0] = n - 1
            return


@compiled
def arrange(B, J, C, A, count, cells, listed, mine, order, first, contacts):
    """Find an order of elimination with little fill-in, and the blocks that the factors have.

    The body with the fewest neighbours goes next, or nearly: those with up to one, then up to two, and so on (George & Liu
    1989, The Evolution of the Minimum Degree Ordering Algorithm), so that trees go from their leaves. ``contacts``:
    with those between free bodies. mine (n,): the bodies, which fill ``order``; cells, listed: whose
    joints count; first: of the blocks. A: scratch. False if a body has more neighbours than there is room for, or many have many.
    """
    n = mine.shape[0]
    joined = 0
    for k in range(n):
        i = mine[k]
        A[i, 0] = 0
        B[i].rank = -1
        B[i].neighbours = 0
    for l in range(listed.shape[0]):
        for j in range(cells[listed[l], 2], cells[listed[l], 3]):
            p, c = J[j].parent, J[j].child
            if J[j].live and p >= 0 and B[p].free and B[c].free and not _connect(A, p, c):
                return False
            joined += 1 if J[j].live and p >= 0 and B[p].free and B[c].free else 0
    fill = FILL * n + 400 if contacts and n > ALONE else 1 << 40
    if joined > n:
        # what is joined crosswise fills in by itself, about with the square of how many joints there are beyond a tree's
        fill += (joined - n) * (joined - n) // 4
    if contacts:
        for i in range(count):
            a, b = C[i].a, C[i].b
            if b >= 0 and B[b].free and a != b and not _connect(A, a, b):
                return False
    done, most = 0, 1
    for k in range(n):
        i = mine[k]
        if not B[i].free:
            order[done] = i
            B[i].rank = done
            done += 1
    while done < n:
        any_gone = False
        for l in range(n - 1, -1, -1):
            i = mine[l]
            if B[i].rank >= 0 or A[i, 0] > most:
                continue
            any_gone = True
            order[done] = i
            B[i].rank = done
            done += 1
            m = A[i, 0]
            B[i].neighbours = m
            fill -= m * m
            if fill < 0:
                return False
            for s in range(m):
                B[i].up[s] = A[i, 1 + s]
                _disconnect(A, A[i, 1 + s], i)
            # what is left of i's neighbours hangs together once i is gone
            for s in range(m):
                for t in range(s + 1, m):
                    if not _connect(A, B[i].up[s], B[i].up[t]):
                        return False
        most = 1 if any_gone and most > 1 else most + (0 if any_gone else 1)
    for k in range(n):
        i = order[k]
        B[i].first = first
        first += B[i].neighbours
        # in the order of elimination
        for s in range(1, B[i].neighbours):
            j, t = B[i].up[s], s
            while t > 0 and B[B[i].up[t - 1]].rank > B[j].rank:
                B[i].up[t] = B[i].up[t - 1]
                t -= 1
            B[i].up[t] = j
    return True


@inlined
def slot_of(B, i, j):
    """Index of the block that couples body i to j, which is eliminated later."""
    for s in range(B[i].neighbours):
        if B[i].up[s] == j:
            return B[i].first + s
    return B[i].first


@inlined
def _cross(x, y, z, m, k):
    """Element (m, k) of the matrix of a vector product with (x, y, z)."""
    if m == k:
        return 0.0
    if m == 0:
        return -z if k == 1 else y
    if m == 1:
        return z if k == 0 else -x
    return -y if k == 0 else x


@compiled
def add_point(B, E, i, j, K, ri, rj, X, Y):
    """Add a stiffness K (3, 3) between a point of body i and one of body j at arms ri, rj; j < 0: the world.

    E: the blocks between bodies. X, Y (3, 3): scratch.
    """
    if i >= 0 and B[i].free:
        add_own(B, i, K, ri, X, Y)
    if j >= 0 and B[j].free:
        add_own(B, j, K, rj, X, Y)
        if i >= 0 and B[i].free:
            if B[i].rank < B[j].rank:
                _add_cross(E[slot_of(B, i, j)].m, K, ri, rj, X, Y)
            else:
                _add_cross(E[slot_of(B, j, i)].m, K, rj, ri, X, Y)


@inlined
def add_own(B, i, K, r, X, Y):
    """J^T K J of one body that is free, J = [1, -[r]x]. X, Y (3, 3): scratch."""
    D = B[i].D
    for m in range(3):
        for k in range(3):
            X[m, k] = _cross(r[0], r[1], r[2], m, k)
    for m in range(3):
        for k in range(3):
            Y[m, k] = K[m, 0] * X[0, k] + K[m, 1] * X[1, k] + K[m, 2] * X[2, k]
    for m in range(3):
        for k in range(3):
            D[m, k] += K[m, k]
            # only the lower triangle is used
            D[3 + m, k] -= Y[k, m]
            D[3 + m, 3 + k] -= X[m, 0] * Y[0, k] + X[m, 1] * Y[1, k] + X[m, 2] * Y[2, k]


@inlined
def _add_cross(E, K, ri, rj, X, Y):
    """-J_i^T K J_j."""
    for m in range(3):
        for k in range(3):
            X[m, k] = _cross(rj[0], rj[1], rj[2], m, k)
    for m in range(3):
        for k in range(3):
            Y[m, k] = K[m, 0] * X[0, k] + K[m, 1] * X[1, k] + K[m, 2] * X[2, k]
    for m in range(3):
        for k in range(3):
            X[m, k] = _cross(ri[0], ri[1], ri[2], m, k)
    for m in range(3):
        for k in range(3):
            E[m, k] -= K[m, k]
            E[m, 3 + k] += Y[m, k]
            E[3 + m, k] -= X[m, 0] * K[0, k] + X[m, 1] * K[1, k] + X[m, 2] * K[2, k]
            E[3 + m, 3 + k] += X[m, 0] * Y[0, k] + X[m, 1] * Y[1, k] + X[m, 2] * Y[2, k]


@compiled
def add_joined(B, E, i, j, k, ri, rj):
    """``add_point`` for a stiffness k that is the same in all directions."""
    i_free, j_free = i >= 0 and B[i].free, j >= 0 and B[j].free
    if i_free:
        _add_own_even(B[i].D, k, ri)
    if j_free:
        _add_own_even(B[j].D, k, rj)
    if i_free and j_free:
        if B[i].rank < B[j].rank:
            _add_cross_even(E[slot_of(B, i, j)].m, k, ri, rj)
        else:
            _add_cross_even(E[slot_of(B, j, i)].m, k, rj, ri)


@inlined
def _add_own_even(D, k, r):
    x, y, z = k * r[0], k * r[1], k * r[2]
    s = x * r[0] + y * r[1] + z * r[2]
    D[0, 0] += k
    D[1, 1] += k
    D[2, 2] += k
    D[3, 1] -= z
    D[3, 2] += y
    D[4, 0] += z
    D[4, 2] -= x
    D[5, 0] -= y
    D[5, 1] += x
    D[3, 3] += s - x * r[0]
    D[4, 4] += s - y * r[1]
    D[5, 5] += s - z * r[2]
    D[4, 3] -= y * r[0]
    D[5, 3] -= z * r[0]
    D[5, 4] -= z * r[1]


@inlined
def _add_cross_even(E, k, ri, rj):
    x, y, z = k * rj[0], k * rj[1], k * rj[2]
    s = x * ri[0] + y * ri[1] + z * ri[2]
    for m in range(3):
        E[m, m] -= k
    E[0, 4] -= z
    E[0, 5] += y
    E[1, 3] += z
    E[1, 5] -= x
    E[2, 3] -= y
    E[2, 4] += x
    a, b, c = k * ri[0], k * ri[1], k * ri[2]
    E[3, 1] += c
    E[3, 2] -= b
    E[4, 0] -= c
    E[4, 2] += a
    E[5, 0] += b
    E[5, 1] -= a
    # [ri]x [rj]x = rj ri^T - (ri . rj) 1
    for m in range(3):
        u = x if m == 0 else (y if m == 1 else z)
        for n in range(3):
            E[3 + m, 3 + n] += u * ri[n]
        E[3 + m, 3 + m] -= s


@compiled
def add_turn(B, E, i, j, K):
    """Add a stiffness K (3, 3) between the rotations of bodies i and j; j < 0: the world."""
    i_free, j_free = i >= 0 and B[i].free, j >= 0 and B[j].free
    if i_free:
        _add_turned(B[i].D, K)
    if j_free:
        _add_turned(B[j].D, K)
    if i_free and j_free:
        F = E[slot_of(B, i, j)].m if B[i].rank < B[j].rank else E[slot_of(B, j, i)].m
        for m in range(3):
            for k in range(3):
                F[3 + m, 3 + k] -= K[m, k]


@inlined
def _add_turned(D, K):
    """Add a stiffness of rotations to the lower triangle of a body's block."""
    D[3, 3] += K[0, 0]
    D[4, 3] += K[1, 0]
    D[4, 4] += K[1, 1]
    D[5, 3] += K[2, 0]
    D[5, 4] += K[2, 1]
    D[5, 5] += K[2, 2]


@inlined
def _factor_block(a):
    """Factor a 6 x 6 block as L D L^T in place, in registers: below the diagonal L, on it the inverse of D."""
    a00 = a[0, 0]
    a10, a11 = a[1, 0], a[1, 1]
    a20, a21, a22 = a[2, 0], a[2, 1], a[2, 2]
    a30, a31, a32, a33 = a[3, 0], a[3, 1], a[3, 2], a[3, 3]
    a40, a41, a42, a43, a44 = a[4, 0], a[4, 1], a[4, 2], a[4, 3], a[4, 4]
    a50, a51, a52, a53, a54, a55 = a[5, 0], a[5, 1], a[5, 2], a[5, 3], a[5, 4], a[5, 5]
    a00 = 1.0 / max(a00, 1e-300)
    w = a10 * a00
    a11 -= w * a10
    b1, a10 = a10, w
    w = a20 * a00
    a21 -= w * b1
    a22 -= w * a20
    b2, a20 = a20, w
    w = a30 * a00
    a31 -= w * b1
    a32 -= w * b2
    a33 -= w * a30
    b3, a30 = a30, w
    w = a40 * a00
    a41 -= w * b1
    a42 -= w * b2
    a43 -= w * b3
    a44 -= w * a40
    b4, a40 = a40, w
    w = a50 * a00
    a51 -= w * b1
    a52 -= w * b2
    a53 -= w * b3
    a54 -= w * b4
    a55 -= w * a50
    a50 = w
    a11 = 1.0 / max(a11, 1e-300)
    w = a21 * a11
    a22 -= w * a21
    b2, a21 = a21, w
    w = a31 * a11
    a32 -= w * b2
    a33 -= w * a31
    b3, a31 = a31, w
    w = a41 * a11
    a42 -= w * b2
    a43 -= w * b3
    a44 -= w * a41
    b4, a41 = a41, w
    w = a51 * a11
    a52 -= w * b2
    a53 -= w * b3
    a54 -= w * b4
    a55 -= w * a51
    a51 = w
    a22 = 1.0 / max(a22, 1e-300)
    w = a32 * a22
    a33 -= w * a32
    b3, a32 = a32, w
    w = a42 * a22
    a43 -= w * b3
    a44 -= w * a42
    b4, a42 = a42, w
    w = a52 * a22
    a53 -= w * b3
    a54 -= w * b4
    a55 -= w * a52
    a52 = w
    a33 = 1.0 / max(a33, 1e-300)
    w = a43 * a33
    a44 -= w * a43
    b4, a43 = a43, w
    w = a53 * a33
    a54 -= w * b4
    a55 -= w * a53
    a53 = w
    a44 = 1.0 / max(a44, 1e-300)
    w = a54 * a44
    a55 -= w * a54
    a54 = w
    a55 = 1.0 / max(a55, 1e-300)
    a[0, 0] = a00
    a[1, 0], a[1, 1] = a10, a11
    a[2, 0], a[2, 1], a[2, 2] = a20, a21, a22
    a[3, 0], a[3, 1], a[3, 2], a[3, 3] = a30, a31, a32, a33
    a[4, 0], a[4, 1], a[4, 2], a[4, 3], a[4, 4] = a40, a41, a42, a43, a44
    a[5, 0], a[5, 1], a[5, 2], a[5, 3], a[5, 4], a[5, 5] = a50, a51, a52, a53, a54, a55


@inlined
def _lower_solve(D, E):
    """E := L^-1 E, row by row in registers."""
    for r in range(1, 6):
        e0, e1, e2, e3, e4, e5 = E[r, 0], E[r, 1], E[r, 2], E[r, 3], E[r, 4], E[r, 5]
        for m in range(r):
            w = D[r, m]
            e0, e1, e2 = e0 - w * E[m, 0], e1 - w * E[m, 1], e2 - w * E[m, 2]
            e3, e4, e5 = e3 - w * E[m, 3], e4 - w * E[m, 4], e5 - w * E[m, 5]
        E[r, 0], E[r, 1], E[r, 2], E[r, 3], E[r, 4], E[r, 5] = e0, e1, e2, e3, e4, e5


@inlined
def _subtract_square(T, D, E):
    """The lower triangle of T -= E^T D^-1 E."""
    for a in range(6):
        w0, w1, w2 = E[0, a] * D[0, 0], E[1, a] * D[1, 1], E[2, a] * D[2, 2]
        w3, w4, w5 = E[3, a] * D[3, 3], E[4, a] * D[4, 4], E[5, a] * D[5, 5]
        for c in range(a + 1):
            low = w0 * E[0, c] + w1 * E[1, c] + w2 * E[2, c]
            T[a, c] -= low + (w3 * E[3, c] + w4 * E[4, c] + w5 * E[5, c])


@inlined
def _subtract_product(T, D, E, F):
    """T -= E^T D^-1 F."""
    for a in range(6):
        w0, w1, w2 = E[0, a] * D[0, 0], E[1, a] * D[1, 1], E[2, a] * D[2, 2]
        w3, w4, w5 = E[3, a] * D[3, 3], E[4, a] * D[4, 4], E[5, a] * D[5, 5]
        for c in range(6):
            low = w0 * F[0, c] + w1 * F[1, c] + w2 * F[2, c]
            T[a, c] -= low + (w3 * F[3, c] + w4 * F[4, c] + w5 * F[5, c])


@compiled
def factor(B, E, order):
    """Factor in place: D into its factors, E into L^-1 E."""
    for n in range(order.shape[0]):
        i = order[n]
        if not B[i].free:
            continue
        D, first = B[i].D, B[i].first
        _factor_block(D)
        for s in range(B[i].neighbours):
            _lower_solve(D, E[first + s].m)
        for s in range(B[i].neighbours):
            j = B[i].up[s]
            _subtract_square(B[j].D, D, E[first + s].m)
            for t in range(s + 1, B[i].neighbours):
                _subtract_product(E[slot_of(B, j, B[i].up[t])].m, D, E[first + s].m, E[first + t].m)


@inlined
def _forward(D, f):
    """f := L^-1 f."""
    f0 = f[0]
    f1 = f[1] - D[1, 0] * f0
    f2 = f[2] - D[2, 0] * f0 - D[2, 1] * f1
    f3 = f[3] - D[3, 0] * f0 - D[3, 1] * f1 - D[3, 2] * f2
    f4 = f[4] - D[4, 0] * f0 - D[4, 1] * f1 - D[4, 2] * f2 - D[4, 3] * f3
    f5 = f[5] - D[5, 0] * f0 - D[5, 1] * f1 - D[5, 2] * f2 - D[5, 3] * f3 - D[5, 4] * f4
    f[1], f[2], f[3], f[4], f[5] = f1, f2, f3, f4, f5


@inlined
def _backward(D, f):
    """f := L^-T D^-1 f."""
    f5 = f[5] * D[5, 5]
    f4 = f[4] * D[4, 4] - D[5, 4] * f5
    f3 = f[3] * D[3, 3] - D[5, 3] * f5 - D[4, 3] * f4
    f2 = f[2] * D[2, 2] - D[5, 2] * f5 - D[4, 2] * f4 - D[3, 2] * f3
    f1 = f[1] * D[1, 1] - D[5, 1] * f5 - D[4, 1] * f4 - D[3, 1] * f3 - D[2, 1] * f2
    f0 = f[0] * D[0, 0] - D[5, 0] * f5 - D[4, 0] * f4 - D[3, 0] * f3 - D[2, 0] * f2 - D[1, 0] * f1
    f[0], f[1], f[2], f[3], f[4], f[5] = f0, f1, f2, f3, f4, f5


@compiled
def solve(B, E, order):
    """Solve with the factors: f of the bodies becomes dv."""
    for n in range(order.shape[0]):
        i = order[n]
        D, f = B[i].D, B[i].f
        if not B[i].free:
            for k in range(6):
                f[k] = 0.0
            continue
        _forward(D, f)
        w0, w1, w2 = f[0] * D[0, 0], f[1] * D[1, 1], f[2] * D[2, 2]
        w3, w4, w5 = f[3] * D[3, 3], f[4] * D[4, 4], f[5] * D[5, 5]
        for s in range(B[i].neighbours):
            F, g = E[B[i].first + s].m, B[B[i].up[s]].f
            for c in range(6):
                low = w0 * F[0, c] + w1 * F[1, c] + w2 * F[2, c]
                g[c] -= low + (w3 * F[3, c] + w4 * F[4, c] + w5 * F[5, c])
    for n in range(order.shape[0] - 1, -1, -1):
        i = order[n]
        if not B[i].free:
            continue
        f = B[i].f
        for s in range(B[i].neighbours):
            F, g = E[B[i].first + s].m, B[B[i].up[s]].f
            g0, g1, g2, g3, g4, g5 = g[0], g[1], g[2], g[3], g[4], g[5]
            for r in range(6):
                low = F[r, 0] * g0 + F[r, 1] * g1 + F[r, 2] * g2
                f[r] -= low + (F[r, 3] * g3 + F[r, 4] * g4 + F[r, 5] * g5)
        _backward(B[i].D, f)
