"""Islands: what cannot touch anything else within a frame is solved by itself, in arrays of its own.

Bodies hang together by joints, and by what may touch within the frame; bodies on their keys belong to every island that they may
touch. What comes up to something after all, since its velocity changed by more than was allowed for, is run again together with it.
"""

import math

from artuline.core.physics.collide import ALLOWED, LEAST_SPEED, bound, may_collide, may_touch, sort
from artuline.core.physics.frames import follow_keys, frame
from artuline.core.physics.kernels import compiled, inlined
from artuline.core.physics.parts import root, unite
from artuline.core.physics.points import place_shapes
from artuline.core.physics.state import (
    ASKED,
    CONTACTS,
    COUNTERS,
    FULL,
    LANES,
    NEAR,
    PATCH_BONES,
    SKIN,
)

REST_SPEED = 1e-4  # m/s: what is slower throughout is at rest
REST_SECONDS = 0.5  # after which what is at rest sleeps


@inlined
def _list_keyed(B, i, x, q, dt):
    """Note the mean velocity of a body on its keys x (k + 1, 3), q (k + 1, 4), put it there, and allow for all that it departs from it."""
    b, last = B[i], x.shape[0] - 1
    most = 0.0
    for k in range(3):
        b.listed[k] = (x[last, k] - x[0, k]) / dt
        b.x[k] = x[0, k]
    for k in range(4):
        b.q[k] = q[0, k]
    for s in range(1, last + 1):
        t, gone, same = s * dt / last, 0.0, 0.0
        for k in range(3):
            gone += (x[s, k] - x[0, k] - t * b.listed[k]) ** 2
        for k in range(4):
            same += q[s, k] * q[0, k]
        most = max(most, math.sqrt(gone) + 2.0 * math.acos(min(abs(same), 1.0)) * b.reach)
    b.fastest = max(b.fastest, LEAST_SPEED + most / dt)


@inlined
def _widest(S, axis):
    """The axis along which the middles of shapes lie apart most; the one that it was unless another's spread is half as much again."""
    best, most = axis, -1.0
    for n in range(3):
        k = (axis + n) % 3
        count, mean, spread = 0, 0.0, 0.0
        for s in range(S.shape[0]):
            if S[s].body >= 0:
                count += 1
                step = 0.5 * (S[s].low[k] + S[s].high[k]) - mean
                mean += step / count
                spread += step * (0.5 * (S[s].low[k] + S[s].high[k]) - mean)
        if spread > most * (1.0 if n == 0 else 2.25):
            best, most = k, spread
    return best


@inlined
def _sort_along(S, wide, axis):
    """Sort the shapes by where their boxes begin along an axis; nearly sorted already, from the time before."""
    for n in range(1, wide.shape[0]):
        s, t = wide[n], n
        x = S[s].low[axis]
        while t > 0 and (S[wide[t - 1]].low[axis] > x or (S[wide[t - 1]].low[axis] == x and wide[t - 1] > s)):
            wide[t] = wide[t - 1]
            t -= 1
        wide[t] = s


@compiled
def divide(B, J, S, X, row, wide, axis, label, tree, met, keyed_x, keyed_q, free, dt):
    """Number the islands of a frame: label (n,) of every body that is free in a part of it, -1 of the others; tree (n,): the
    lowest body of those that it hangs together with by joints.

    met (most, 2): filled with bodies that are free, and bodies on their keys that these may touch. row: as in ``find_near``; wide: the
    shapes in the order along the axis (1,) in which they lie apart most, both as they were the last time.
    Returns how many islands and how many rows of ``met`` there are; more than ``met`` has room for are counted, not written.
    """
    n, count = B.shape[0], free.shape[1]
    for i in range(n):
        b, times = B[i], 0
        speed = 0.0
        for k in range(3):
            b.listed[k] = b.v[k]
            speed += b.v[k] * b.v[k]
        for s in range(count):
            times += 1 if free[i, s] else 0
        label[i] = i if times > 0 else -1
        b.fastest = ALLOWED * math.sqrt(speed) + LEAST_SPEED
        if times < count:
            _list_keyed(B, i, keyed_x[i], keyed_q[i], dt)
    place_shapes(B, S)
    bound(B, S, dt)
    sort(S, row)
    for j in range(J.shape[0]):
        p, c = J[j].parent, J[j].child
        if J[j].on and J[j].broken < 0 and p >= 0 and label[p] >= 0 and label[c] >= 0:
            unite(label, p, c)
    for i in range(n):
        tree[i] = root(label, i) if label[i] >= 0 else -1
    axis[0] = _widest(S, axis[0])
    u, v, w = axis[0], (axis[0] + 1) % 3, (axis[0] + 2) % 3
    _sort_along(S, wide, u)
    meetings = 0
    for m in range(wide.shape[0]):
        s = wide[m]
        i = S[s].body
        if i < 0:
            continue
        for r in range(m + 1, wide.shape[0]):
            t = wide[r]
            if S[t].low[u] > S[s].high[u]:
                break
            j = S[t].body
            if j < 0 or (label[i] < 0 and label[j] < 0):
                continue
            if S[t].low[v] > S[s].high[v] or S[s].low[v] > S[t].high[v]:
                continue
            if S[t].low[w] > S[s].high[w] or S[s].low[w] > S[t].high[w]:
                continue
            both = label[i] >= 0 and label[j] >= 0
            if (both and root(label, i) == root(label, j)) or not may_collide(B, S, X, s, t):
                continue
            if not (may_touch(B, S, s, t, dt) if S[s].kind <= S[t].kind else may_touch(B, S, t, s, dt)):
                continue
            skin = s if S[s].kind == SKIN else (t if S[t].kind == SKIN else -1)
            if skin >= 0:
                # whatever moves it has to be there
                one = i if label[i] >= 0 else j
                for k in range(PATCH_BONES):
                    if S[skin].bones[k] >= 0 and label[S[skin].bones[k]] >= 0:
                        unite(label, one, S[skin].bones[k])
            if both:
                unite(label, i, j)
                continue
            if meetings < met.shape[0]:
                met[meetings, 0], met[meetings, 1] = (i, j) if label[i] >= 0 else (j, i)
            meetings += 1
    islands = 0
    for i in range(n):
        if label[i] == i:
            label[i] = -2 - islands
            islands += 1
        elif label[i] >= 0:
            # roots come first
            label[i] = label[_up(label, i)]
    for i in range(n):
        label[i] = -2 - label[i] if label[i] < -1 else -1
    return islands, meetings


@inlined
def _up(label, i):
    """The root of body i, or one above it that has its number already."""
    while label[i] >= 0:
        i = label[i]
    return i


@inlined
def _stirs(B, i, keyed_x, keyed_q, free, goal):
    """Whether body i is not at rest for long enough, or its keys, drives or forces are not what they were."""
    b = B[i]
    for s in range(free.shape[1]):
        if free[i, s] and (goal[i, s, 0] != b.goal_frequency or goal[i, s, 1] != b.goal_damping):
            return True
        for k in range(3):
            if keyed_x[i, s, k] != b.goal_x1[k] or keyed_x[i, s + 1, k] != b.goal_x1[k]:
                return True
        for k in range(4):
            if keyed_q[i, s, k] != b.goal_q1[k] or keyed_q[i, s + 1, k] != b.goal_q1[k]:
                return True
        if free[i, s] != (b.rest > 0.0):
            return True
    if not b.free:
        return False
    for k in range(6):
        if b.push[k] != b.felt[k]:
            return True
    for k in range(3):
        if b.x[k] != b.x1[k]:
            return True
    for k in range(4):
        if b.q[k] != b.q1[k]:
            return True
    return b.rest < REST_SECONDS or _moves(B, i)


@inlined
def _moves(B, i):
    v, w, most = B[i].v, B[i].w, REST_SPEED * REST_SPEED
    spin = (w[0] * w[0] + w[1] * w[1] + w[2] * w[2]) * B[i].reach * B[i].reach
    return not v[0] * v[0] + v[1] * v[1] + v[2] * v[2] < most or not spin < most


@compiled
def find_awake(B, J, T, label, met, keyed_x, keyed_q, free, goal, drive, awake):
    """Set of every island whether anything in it, or that it may touch, is not at rest."""
    for i in range(awake.shape[0]):
        awake[i] = False
    for i in range(B.shape[0]):
        if label[i] >= 0 and not awake[label[i]] and _stirs(B, i, keyed_x, keyed_q, free, goal):
            awake[label[i]] = True
    for k in range(met.shape[0]):
        island = label[met[k, 0]]
        if not awake[island] and _stirs(B, met[k, 1], keyed_x, keyed_q, free, goal):
            awake[island] = True
    for j in range(J.shape[0]):
        p, c = J[j].parent, J[j].child
        island = label[c] if label[c] >= 0 or p < 0 else label[p]
        if island >= 0 and not awake[island]:
            for s in range(drive.shape[1]):
                awake[island] = awake[island] or drive[j, s] != J[j].frequency
            # what holds it moves, though it may not touch it
            for i in (p, c):
                if i >= 0 and label[i] < 0 and _stirs(B, i, keyed_x, keyed_q, free, goal):
                    awake[island] = True
    for k in range(T.shape[0]):
        if T[k].body >= 0 and label[T[k].body] >= 0:
            awake[label[T[k].body]] = True


@inlined
def _gather(B, J, S, B2, J2, S2, T, T2, bodies, joints, shapes, inverse, of_shape, row):
    """Copy an island's bodies, joints and shapes, with the indices that they have there."""
    for i in range(bodies.shape[0]):
        inverse[bodies[i]] = i
        B2[i] = B[bodies[i]]
        B2[i].of_joint = -1
    for j in range(joints.shape[0]):
        J2[j] = J[joints[j]]
        J2[j].child = inverse[J2[j].child]
        if J2[j].parent >= 0:
            J2[j].parent = inverse[J2[j].parent]
        if B[bodies[J2[j].child]].of_joint == joints[j]:
            B2[J2[j].child].of_joint = j
    for s in range(shapes.shape[0]):
        S2[s] = S[shapes[s]]
        of_shape[shapes[s]] = s
        row[s] = s
        if S2[s].body >= 0:
            S2[s].body = inverse[S2[s].body]
        if S2[s].kind == SKIN:
            for k in range(PATCH_BONES):
                if S2[s].bones[k] >= 0:
                    S2[s].bones[k] = inverse[S2[s].bones[k]]
    for k in range(T.shape[0]):
        T2[k] = T[k]
        if T[k].body >= 0:
            T2[k].body = -1
            for i in range(bodies.shape[0]):
                if bodies[i] == T[k].body:
                    T2[k].body = i


@inlined
def _gather_inputs(bodies, joints, given, taken):
    """Copy an island's keyed poses, drives and the rest that it is given."""
    keyed_x, keyed_q, free, goal, drive, follow = given
    keyed_x2, keyed_q2, free2, goal2, drive2, follow2 = taken
    for n in range(bodies.shape[0]):
        i = bodies[n]
        for s in range(keyed_x.shape[1]):
            for k in range(3):
                keyed_x2[n, s, k] = keyed_x[i, s, k]
            for k in range(4):
                keyed_q2[n, s, k] = keyed_q[i, s, k]
        for s in range(free.shape[1]):
            free2[n, s] = free[i, s]
            goal2[n, s, 0], goal2[n, s, 1] = goal[i, s, 0], goal[i, s, 1]
    for n in range(joints.shape[0]):
        j = joints[n]
        follow2[n] = follow[j]
        for s in range(drive.shape[1]):
            drive2[n, s] = drive[j, s]


@compiled
def run_islands(
    which, world, remembered, lists, starts, given, made, room, parts, taken, kept, kept_counts, results, gravity, wind, h
):  # fmt: skip
    """Run the frame of the islands ``which``, one after the other.

    world: B, J, S, T, X, trees and counters, which are only read; remembered: pairs and memory; lists: bodies, joints, shapes and pairs of all
    islands, one after the other, and starts (islands + 1, 4) of each in them; given: what ``frame`` is given for all; made: bodies,
    joints and trace, laid out as ``lists``; room, taken: scratch for the largest island; kept, kept_counts: room for what is remembered,
    and how much of it is used; results (islands, COUNTERS + 4): counters, and where in ``kept`` an island's pairs and memory begin and end.
    """
    B, J, S, T, X, tree, counters = world
    old_pairs, old_memory = remembered
    bodies, joints, shapes, pairs = lists
    B2, J2, trace = made
    E, V, S2, P, Q, H, C, O, T2, K, G, W, A, order, row, inverse, of_shape = room
    keyed_x, keyed_q, free, goal, drive, follow = taken
    kept_pairs, kept_memory = kept
    for n in range(which.shape[0]):
        island = which[n]
        f, l = starts[island], starts[island + 1]
        m, mj, ms = l[0] - f[0], l[1] - f[1], l[2] - f[2]
        b, j, s = B2[f[0] : l[0]], J2[f[1] : l[1]], S2[:ms]
        mine, my_joints = bodies[f[0] : l[0]], joints[f[1] : l[1]]
        _gather(B, J, S, b, j, s, T, T2, mine, my_joints, shapes[f[2] : l[2]], inverse, of_shape, row)
        _gather_inputs(mine, my_joints, given, taken)
        for k in range(COUNTERS):
            K[k] = 0
        K[ASKED] = counters[ASKED]
        used = 0
        for k in range(f[3], l[3]):
            p = old_pairs[pairs[k]]
            near = K[NEAR]
            if near == P.shape[0] or used + p.olds > O.shape[0] // 2:
                K[FULL] = 1
                break
            P[near] = p
            P[near].a, P[near].b, P[near].old = of_shape[p.a], of_shape[p.b], used
            for o in range(p.olds):
                O[used + o] = old_memory[p.old + o]
            used += p.olds
            K[NEAR] += 1
        if K[FULL] == 0:
            count = _cells(b, j, tree, parts)
            cells, part_of, up, listed, place, near_pairs, part_starts, KP, found = parts
            own = (cells[: count + 1], part_of[:count], up, listed, place, near_pairs, part_starts, KP, found)
            frame(
                b, E, j, V, s, P, Q, H, X, row[:ms], C, O, T2, K, G, W, A, order[:m], own, gravity, wind, h,
                keyed_x[:m], keyed_q[:m], free[:m], goal[:m], drive[:mj], follow[:mj], trace[f[0] : l[0]],
            )  # fmt: skip
        result = results[island]
        result[COUNTERS], result[COUNTERS + 2] = kept_counts[0], kept_counts[1]
        if kept_counts[0] + K[NEAR] > kept_pairs.shape[0] or kept_counts[1] + K[CONTACTS] > kept_memory.shape[0]:
            K[FULL] = 1
        if K[FULL] == 0:
            _keep(P, O, s, K, kept_pairs, kept_memory, kept_counts)
        K[ASKED] -= counters[ASKED]
        for k in range(COUNTERS):
            result[k] = K[k]
        result[COUNTERS + 1], result[COUNTERS + 3] = kept_counts[0], kept_counts[1]
        for i in range(m):
            inverse[mine[i]] = -1


@inlined
def _cells(B, J, tree, parts):
    """Fill in the cells of an island, whose bodies and joints lie tree by tree, those on their keys last; how many there are without these."""
    cells, part_of, _up, _listed, _mine, _near, _starts, KP, _found = parts
    n, m, i, j, lane, count = B.shape[0], J.shape[0], 0, 0, 0, 0
    while i < n and tree[B[i].id] >= 0:
        t = tree[B[i].id]
        cells[count, 0], cells[count, 2], cells[count, 4] = i, j, lane
        while i < n and tree[B[i].id] == t:
            B[i].cell = count
            i += 1
        while j < m:
            c = J[j].child if tree[B[J[j].child].id] >= 0 else J[j].parent
            if tree[B[c].id] != t:
                break
            j += 1
        cells[count, 1], cells[count, 3] = i, j
        lane += (i - cells[count, 0] + LANES - 1) // LANES
        part_of[count] = -1
        for k in range(COUNTERS):
            KP[count, k] = 0
        count += 1
    cells[count, 0], cells[count, 1], cells[count, 2], cells[count, 3], cells[count, 4] = i, n, j, m, lane
    for k in range(i, n):
        B[k].cell = -1
    return count


@inlined
def _keep(P, O, S, K, pairs, memory, counts):
    """Append what is remembered of the pairs that touch."""
    for k in range(K[NEAR]):
        if P[k].olds == 0 and P[k].incoming[0] == 0.0:
            continue
        pairs[counts[0]] = P[k]
        p = pairs[counts[0]]
        p.a, p.b, p.old = S[P[k].a].id, S[P[k].b].id, counts[1]
        for o in range(P[k].olds):
            memory[counts[1] + o] = O[P[k].old + o]
        counts[0] += 1
        counts[1] += P[k].olds


@compiled
def collect(which, B, J, lists, starts, made, label, shared):
    """Copy what the islands ``which`` have come to back: what is theirs alone, which several threads may do at a time, or with
    ``shared`` what bodies on their keys have felt in them, which one thread has to do.
    """
    bodies, joints, _shapes, _pairs = lists
    B2, J2, _trace = made
    for n in range(which.shape[0]):
        f, l = starts[which[n]], starts[which[n] + 1]
        for k in range(f[0], l[0]):
            i = bodies[k]
            if (label[i] < 0) != shared:
                continue
            if shared:
                # one of several copies
                a, b = B[i], B2[k]
                a.penetration = max(a.penetration, b.penetration)
                a.contact += b.contact - a.before
                if b.strongest > a.strongest:
                    a.strongest = b.strongest
                    for c in range(3):
                        a.touch[c] = b.touch[c]
                continue
            of_joint = B[i].of_joint
            B[i] = B2[k]
            B[i].of_joint = of_joint
        for k in range(f[1], l[1] if not shared else f[1]):
            j = joints[k]
            p, c = J[j].parent, J[j].child
            J[j] = J2[k]
            J[j].parent, J[j].child = p, c


@compiled
def carry_keyed(B, label, keyed_x, keyed_q, h):
    """Move everything that is on its keys along."""
    count = keyed_x.shape[1] - 1
    for i in range(B.shape[0]):
        if label[i] >= 0:
            continue
        b = B[i]
        b.free = False
        for s in range(count):
            follow_keys(B, i, keyed_x[i], keyed_q[i], s, h)
        for k in range(3):
            b.x[k] = keyed_x[i, count, k]
            b.goal_x0[k], b.goal_x1[k] = b.x[k], b.x[k]
        for k in range(4):
            b.q[k] = keyed_q[i, count, k]
            b.goal_q0[k], b.goal_q1[k] = b.q[k], b.q[k]


@compiled
def note_rest(B, dt):
    """Count for how long every body that is free has been at rest."""
    for i in range(B.shape[0]):
        b = B[i]
        b.before = b.contact
        b.rest = b.rest + dt if b.free and not _moves(B, i) else 0.0
        for k in range(6):
            b.felt[k] = b.push[k]
