"""What came near something else within a frame, though it was not run together with it."""

import math

from artuline.core.physics.collide import TOUCH, listed_apart
from artuline.core.physics.kernels import compiled, inlined


@compiled
def sweep_boxes(B, where, trace, keyed_x, label, boxes):
    """Boxes (n, 6) around all places that every body has during the frame. where (n,): its row of ``trace``, -1: on its keys or asleep."""
    for i in range(B.shape[0]):
        box, reach = boxes[i], B[i].reach + 0.5 * TOUCH
        for k in range(3):
            box[k] = box[3 + k] = B[i].x[k]
        for s in range(trace.shape[1] if where[i] >= 0 or label[i] < 0 else 0):
            x = trace[where[i], s] if where[i] >= 0 else keyed_x[i, s + 1]
            for k in range(3):
                box[k], box[3 + k] = min(box[k], x[k]), max(box[3 + k], x[k])
        for k in range(3):
            box[k], box[3 + k] = box[k] - reach, box[3 + k] + reach


@inlined
def _place(B, i, where, trace, keyed_x, label, s, k):
    """Coordinate k of body i at the end of substep s - 1."""
    if s == 0:
        return B[i].x[k]
    if where[i] >= 0:
        return trace[where[i], s - 1, k]
    return keyed_x[i, s, k] if label[i] < 0 else B[i].x[k]


@inlined
def _came_near(B, i, j, where, trace, keyed_x, label):
    """Whether two bodies' spheres met within the frame."""
    most = B[i].reach + B[j].reach + TOUCH
    for s in range(1, trace.shape[1] + 1):
        gap, way = 0.0, 0.0
        for k in range(3):
            before = _place(B, i, where, trace, keyed_x, label, s - 1, k) - _place(
                B, j, where, trace, keyed_x, label, s - 1, k
            )
            after = _place(B, i, where, trace, keyed_x, label, s, k) - _place(B, j, where, trace, keyed_x, label, s, k)
            gap += min(before * before, after * after) if before * after > 0.0 else 0.0
            way += (after - before) ** 2
        if gap < (most + math.sqrt(way)) ** 2:
            return True
    return False


@compiled
def find_missed(B, X, order, boxes, where, strayed, trace, keyed_x, label, met, missed):
    """Fill missed (most, 2) with bodies of different islands, and bodies on their keys, that came near each other though it was not seen
    before. order (n,): bodies by the low end of their boxes; met: sorted numbers island * n + body of what is with an island already.
    Returns how many.
    """
    n, count = B.shape[0], 0
    for k in range(n):
        i = order[k]
        for l in range(k + 1, n):
            j = order[l]
            if boxes[j, 0] > boxes[i, 3]:
                break
            if label[i] == label[j] or not (strayed[i] or strayed[j]):
                continue
            if boxes[j, 1] > boxes[i, 4] or boxes[i, 1] > boxes[j, 4]:
                continue
            if boxes[j, 2] > boxes[i, 5] or boxes[i, 2] > boxes[j, 5]:
                continue
            a, b = (i, j) if label[i] >= 0 else (j, i)
            if B[a].reach < 0.0 or B[b].reach < 0.0 or _apart(B, X, a, b):
                continue
            if label[b] < 0 and _holds(met, label[a] * n + b):
                continue
            if count < missed.shape[0] and _came_near(B, a, b, where, trace, keyed_x, label):
                missed[count, 0], missed[count, 1] = a, b
                count += 1
    return count


@inlined
def _apart(B, X, i, j):
    """Whether two bodies never collide."""
    if B[i].group >= 0 and B[i].group == B[j].group:
        return True
    return listed_apart(X, B[i].id, B[j].id)


@inlined
def _holds(sorted_numbers, number):
    low, high = 0, sorted_numbers.shape[0]
    while low < high:
        middle = (low + high) // 2
        if sorted_numbers[middle] < number:
            low = middle + 1
        else:
            high = middle
    return low < sorted_numbers.shape[0] and sorted_numbers[low] == number
