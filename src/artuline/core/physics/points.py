"""Where shapes are, and how a contact point is stored."""

from artuline.core.physics.kernels import compiled, inlined, quat_mul, turn
from artuline.core.physics.state import CONTACTS, FULL


@compiled
def place_shapes(B, S):
    """World position and rotation matrix of every shape."""
    for s in range(S.shape[0]):
        place_shape(B, S, s)


@inlined
def place_shape(B, S, s):
    """World position and rotation matrix of shape s."""
    b = S[s].body
    px, py, pz = S[s].position[0], S[s].position[1], S[s].position[2]
    x, y, z, w = S[s].rotation[0], S[s].rotation[1], S[s].rotation[2], S[s].rotation[3]
    if b >= 0:
        bx, by, bz, bw = B[b].q[0], B[b].q[1], B[b].q[2], B[b].q[3]
        px, py, pz = turn(bx, by, bz, bw, px, py, pz)
        px, py, pz = px + B[b].x[0], py + B[b].x[1], pz + B[b].x[2]
        x, y, z, w = quat_mul(bx, by, bz, bw, x, y, z, w)
    S[s].at[0], S[s].at[1], S[s].at[2] = px, py, pz
    r = S[s].r
    r[0, 0], r[0, 1], r[0, 2] = 1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)
    r[1, 0], r[1, 1], r[1, 2] = 2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)
    r[2, 0], r[2, 1], r[2, 2] = 2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)


@inlined
def add_contact(C, K, a, b, nx, ny, nz, px, py, pz, gap, feature):
    """Store a contact of shapes a and b at the point midway between the surfaces."""
    i = K[CONTACTS]
    if i >= C.shape[0]:
        K[FULL] = 1
        return
    C[i].shapes[0], C[i].shapes[1] = a, b
    C[i].normal[0], C[i].normal[1], C[i].normal[2] = nx, ny, nz
    C[i].point[0], C[i].point[1], C[i].point[2] = px, py, pz
    C[i].gap = gap
    C[i].feature = feature
    K[CONTACTS] = i + 1


@inlined
def clamp(v, lo, hi):
    """The value, no less than lo and no more than hi."""
    return min(max(v, lo), hi)
