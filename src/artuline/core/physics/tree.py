"""Joints of a tree solved together: block LDL^T from the leaves to the root, without fill-in.

The system, for changes of velocity dv and of impulse dl (Baraff 1996, Linear-Time Dynamics using Lagrange
Multipliers; Deul et al. 2018, Direct Position-Based Solver for Stiff Rods)::

    [ D  -J^T ] [dv]   [ f ]
    [ J   G   ] [dl] = [-r ]

D, a 6 x 6 block for each body, is the mass matrix with everything that touches a single body already added (contacts with what
does not move, world drives, tugs). Joints are ordered so that a body's own joint comes before the joints of its children.
"""

import math

from artuline.core.physics.kernels import compiled, inlined

MOST_ROWS = 9


@inlined
def _cholesky(a, n):
    """Factor the leading n x n block in place into its lower triangle, with inverted diagonal."""
    for c in range(n):
        s = a[c, c]
        for k in range(c):
            s -= a[c, k] * a[c, k]
        d = 1.0 / math.sqrt(max(s, 1e-300))
        a[c, c] = d
        for r in range(c + 1, n):
            s = a[r, c]
            for k in range(c):
                s -= a[r, k] * a[c, k]
            a[r, c] = s * d


@compiled
def factor(B, J):
    """Factor in place: D of the bodies into their Cholesky factors, Y, W and S of the joints."""
    for j in range(J.shape[0] - 1, -1, -1):
        joint = J[j]
        c, p, n = joint.child, joint.parent, joint.rows
        p_free = p >= 0 and B[p].free
        c_free = B[c].free
        Y, S = joint.Y, joint.S
        if c_free:
            _cholesky(B[c].D, 6)
        if n == 0 or not (c_free or p_free):
            continue
        if c_free:
            D, Jc = B[c].D, joint.Jc
            for r in range(n):
                for k in range(6):
                    s = Jc[r, k]
                    for i in range(k):
                        s -= D[k, i] * Y[r, i]
                    Y[r, k] = s * D[k, k]
        for r in range(n):
            for q in range(r + 1):
                s = joint.G[r, q]
                if c_free:
                    for k in range(6):
                        s += Y[r, k] * Y[q, k]
                S[r, q] = s
        _cholesky(S, n)
        if p_free:
            W, Jp, D = joint.W, joint.Jp, B[p].D
            for r in range(n):
                for k in range(6):
                    s = Jp[r, k]
                    for q in range(r):
                        s -= S[r, q] * W[q, k]
                    W[r, k] = s * S[r, r]
            for a in range(6):
                for b in range(a + 1):
                    s = 0.0
                    for r in range(n):
                        s += W[r, a] * W[r, b]
                    D[a, b] += s


@compiled
def factor_roots(B):
    """Factor the bodies that no joint ties to a parent."""
    for i in range(B.shape[0]):
        if B[i].free and B[i].of_joint < 0:
            _cholesky(B[i].D, 6)


@inlined
def forward(D, f):
    """Half a solve: f := L^-1 f."""
    for k in range(6):
        s = f[k]
        for m in range(k):
            s -= D[k, m] * f[m]
        f[k] = s * D[k, k]


@inlined
def backward(D, f):
    """The other half: f := L^-T f."""
    for k in range(5, -1, -1):
        s = f[k]
        for m in range(k + 1, 6):
            s -= D[m, k] * f[m]
        f[k] = s * D[k, k]


@compiled
def solve(B, J):
    """Solve with the factors: f of the bodies becomes dv; res of the joints gives dl."""
    m = J.shape[0]
    for j in range(m - 1, -1, -1):
        joint = J[j]
        c, p, n = joint.child, joint.parent, joint.rows
        p_free = p >= 0 and B[p].free
        c_free = B[c].free
        if c_free:
            forward(B[c].D, B[c].f)
        if n == 0 or not (c_free or p_free):
            continue
        dl, S = joint.dl, joint.S
        for r in range(n):
            s = -joint.res[r]
            if c_free:
                for k in range(6):
                    s -= joint.Y[r, k] * B[c].f[k]
            for q in range(r):
                s -= S[r, q] * dl[q]
            dl[r] = s * S[r, r]
        if p_free:
            for k in range(6):
                s = 0.0
                for r in range(n):
                    s += joint.W[r, k] * dl[r]
                B[p].f[k] += s
    for i in range(B.shape[0]):
        if not B[i].free:
            for k in range(6):
                B[i].f[k] = 0.0
        elif B[i].of_joint < 0:
            forward(B[i].D, B[i].f)
            backward(B[i].D, B[i].f)
    for j in range(m):
        joint = J[j]
        c, p, n = joint.child, joint.parent, joint.rows
        p_free = p >= 0 and B[p].free
        if n > 0 and (B[c].free or p_free):
            dl, S = joint.dl, joint.S
            for r in range(n - 1, -1, -1):
                s = dl[r]
                if p_free:
                    for k in range(6):
                        s -= joint.W[r, k] * B[p].f[k]
                for q in range(r + 1, n):
                    s -= S[q, r] * dl[q]
                dl[r] = s * S[r, r]
            if B[c].free:
                for k in range(6):
                    s = B[c].f[k]
                    for r in range(n):
                        s += joint.Y[r, k] * dl[r]
                    B[c].f[k] = s
        if B[c].free:
            backward(B[c].D, B[c].f)
