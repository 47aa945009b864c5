"""Islands that are run together: which bodies, joints, shapes and pairs each has, and the scratch to run them in."""

from dataclasses import dataclass
from typing import Any, Protocol

import numpy as np

from artuline.core.geometry.rotation import Array
from artuline.core.physics.parts import CELL_COLUMNS
from artuline.core.physics.state import (
    BLOCK,
    BODY,
    CONTACT,
    COUNTERS,
    JOINT,
    LANE,
    MEMORY,
    MOST_NEIGHBOURS,
    NEAR,
    PAIR,
    SHAPE,
    TUG,
)


@dataclass
class Given:
    """What the frame of all bodies (n) and joints (m) is given over k substeps, body by body."""

    x: Array  # (n, k + 1, 3)
    q: Array  # (n, k + 1, 4)
    free: np.ndarray  # (n, k)
    goal: Array  # (n, k, 2)
    drive: Array  # (m, k)
    follow: np.ndarray  # (m,)
    gravity: Array  # (k, 3)
    wind: Array  # (k, 3)
    dt: float

    def arrays(self) -> tuple[Any, ...]:
        """What is given body by body and joint by joint."""
        return self.x, self.q, self.free, self.goal, self.drive, self.follow

    @property
    def h(self) -> float:
        """Length of a substep, seconds."""
        return self.dt / len(self.gravity)


class Solved(Protocol):
    """What islands need of a world."""

    bodies: np.ndarray
    joints: np.ndarray
    shapes: np.ndarray
    lanes: np.ndarray
    blocks: np.ndarray
    pairs: np.ndarray
    spare: np.ndarray
    slots: np.ndarray
    apart: np.ndarray
    row: np.ndarray
    contacts: np.ndarray
    memory: np.ndarray
    tugs: np.ndarray
    counters: np.ndarray
    hulls: np.ndarray
    scratch: np.ndarray
    coupled: np.ndarray
    elimination: np.ndarray
    parts: tuple[np.ndarray, ...]

    def measure_reach(self) -> None:
        """Note how far every body reaches."""

    def hold_pairs(self, pairs: np.ndarray, memory: np.ndarray) -> None:
        """Remember these pairs of shapes, and what is known of their contacts."""


class Room:
    """Scratch for the largest island that a thread runs, and what is remembered of those that it has run."""

    def __init__(self, world: Solved):
        self.world = world
        self.bodies = self.joints = self.shapes = self.substeps = 0
        self.pairs, self.contacts, self.kept = 256, 128, 512
        self.hulls = world.hulls.copy()  # its first rows are scratch
        self.counts = _alone(np.zeros(2, np.int64))
        self.of_body = _alone(np.full(len(world.bodies), -1))
        self.of_shape = _alone(np.full(len(world.shapes), -1))
        self.made = False

    def fit(self, bodies: int, joints: int, shapes: int, substeps: int) -> None:
        """Make room for islands of this size."""
        if (
            self.made
            and bodies <= self.bodies
            and joints <= self.joints
            and shapes <= self.shapes
            and substeps == self.substeps
        ):
            return
        self.bodies, self.joints = max(bodies, self.bodies), max(joints, self.joints)
        self.shapes, self.substeps = max(shapes, self.shapes), substeps
        n, m, k = self.bodies, self.joints, substeps
        self.pairs = max(self.pairs, 8 * self.shapes)
        self.contacts = max(self.contacts, 4 * self.shapes)
        self._allocate(n, m, k)

    def _allocate(self, n: int, m: int, k: int) -> None:
        table = 1 << int(2 * self.pairs).bit_length()
        room: tuple[np.ndarray, ...] = (
            np.zeros(n * MOST_NEIGHBOURS, BLOCK), np.ones(n + 2, LANE), np.zeros(self.shapes, SHAPE),
            np.zeros(self.pairs, PAIR), np.zeros(self.pairs, PAIR), np.full(table, -1, np.int64),
            np.zeros(self.contacts, CONTACT), np.zeros(2 * self.contacts, MEMORY), np.zeros(len(self.world.tugs), TUG),
            np.zeros(COUNTERS, np.int64), self.hulls, np.zeros((4, 3, 3)), np.zeros((n, MOST_NEIGHBOURS + 1), np.int64),
            np.arange(n), np.arange(self.shapes), self.of_body, self.of_shape,
        )  # fmt: skip
        self.room = tuple(_alone(a) for a in room[:-2]) + room[-2:]
        self.parts = tuple(_alone(a) for a in make_parts(n, n, self.pairs, self.contacts))
        self.taken = tuple(_alone(a) for a in (
            np.zeros((n, k + 1, 3)), np.zeros((n, k + 1, 4)), np.zeros((n, k), bool), np.zeros((n, k, 2)),
            np.zeros((m, k)), np.zeros(m, bool),
        ))  # fmt: skip
        self.kept = max(self.kept, 2 * self.pairs)
        self.remembered = np.zeros(self.kept, PAIR), np.zeros(max(self.kept, self.contacts), MEMORY)
        self.made = True

    def grow(self) -> None:
        """Twice the room for pairs and contacts; what is remembered stays."""
        pairs, memory = self.remembered
        self.pairs, self.contacts, self.kept = 2 * self.pairs, 2 * self.contacts, 2 * self.kept
        self._allocate(self.bodies, self.joints, self.substeps)
        self.remembered[0][: len(pairs)], self.remembered[1][: len(memory)] = pairs, memory


def _alone(a: np.ndarray) -> np.ndarray:
    """A copy that shares no line of any cache with another array: threads that write side by side would wait for each other."""
    block = np.zeros(a.nbytes + 512, np.uint8)
    first = 256 - block.ctypes.data % 64
    made: np.ndarray = block[first : first + a.nbytes].view(a.dtype).reshape(a.shape)
    made[...] = a
    return made


def make_parts(cells: int, bodies: int, pairs: int, contacts: int) -> tuple[np.ndarray, ...]:
    """Scratch that the parts of a substep are sorted in (``advance``)."""
    return (
        np.zeros((cells + 1, CELL_COLUMNS), np.int64), np.full(cells, -1), np.zeros(cells, np.int64), np.zeros(cells, np.int64),
        np.zeros(bodies, np.int64), np.zeros(pairs, np.int64), np.zeros((cells + 2, 4), np.int64),
        np.zeros((cells, COUNTERS), np.int64), np.zeros(contacts, CONTACT),
    )  # fmt: skip


class Membership:
    """To which island joints, shapes and pairs belong."""

    def __init__(self, world: Solved):
        self.world = world
        n, body = len(world.bodies), world.shapes["body"]
        self.body_of_shape = np.where(body < 0, n, body)
        self.world_shapes = np.flatnonzero(body < 0)
        self.shape_count = np.bincount(body[body >= 0], minlength=n)
        self.first_shape = np.cumsum(self.shape_count) - self.shape_count
        #: The lowest body of those that each hangs together with by joints; -1: on its keys.
        self.tree = np.zeros(n, np.int64)

    def islands_of_joints(self, label: np.ndarray) -> np.ndarray:
        """The island of every joint, -1 for none: that of the body that is free, if both are in the same."""
        j = self.world.joints
        child, parent = label[j["child"]], np.where(j["parent"] >= 0, label[j["parent"]], -1)
        return np.where((child >= 0) & (parent >= 0) & (child != parent), -1, np.maximum(child, parent))

    def islands_of_pairs(self, label: np.ndarray, keyed: np.ndarray) -> np.ndarray:
        """The island of every remembered pair, -1 for those that are in none, or in two."""
        w, n = self.world, len(self.world.bodies)
        if w.counters[NEAR] == 0:
            return np.zeros(0, np.int64)
        pairs = w.pairs[: w.counters[NEAR]]
        a, b = self.body_of_shape[pairs["a"]], self.body_of_shape[pairs["b"]]
        padded = np.append(label, -1)
        of_a, of_b = padded[a], padded[b]
        island = np.maximum(of_a, of_b)
        for mine, body in ((of_a, a), (of_b, b)):
            away = (mine != island) & (body < n)
            away[away] = (mine[away] >= 0) | ~np.isin(island[away] * n + body[away], keyed)
            island[away] = -1
        return island


class Batch:
    """Islands that are run together, and what they come to."""

    def __init__(
        self,
        runner: Membership,
        islands: np.ndarray,
        label: np.ndarray,
        keyed: np.ndarray,
        count: int,
        substeps: int,
    ):
        """islands: numbers of those to run; label (n,): the island of every body; keyed: sorted numbers island * n + body of the
        bodies on their keys that are with an island; count: islands in all.
        """
        w = runner.world
        n = len(w.bodies)
        chosen = np.zeros(count + 1, bool)  # the last stands for none
        chosen[islands] = True
        self.islands = islands
        keyed = keyed[chosen[keyed // n]]
        with_, guests = keyed // n, keyed % n
        tree = runner.tree
        loose = np.flatnonzero(chosen[label])
        loose = loose[np.argsort(tree[loose], kind="stable")]
        self.bodies, body_first = _by_island(count, [label[loose], with_], [loose, guests])
        of_joint = runner.islands_of_joints(label)
        joints = np.flatnonzero(chosen[of_joint])
        child = w.joints["child"][joints]
        held = np.where(tree[child] >= 0, tree[child], tree[w.joints["parent"][joints]])
        joints = joints[np.argsort(held, kind="stable")]
        self.joints, joint_first = _by_island(count, [of_joint[joints]], [joints])
        of_row = np.append(label, -1)[runner.body_of_shape[w.row]]
        rows = w.row[chosen[of_row]]
        first, many = runner.first_shape[guests], runner.shape_count[guests]
        theirs = np.repeat(first - np.cumsum(many) + many, many) + np.arange(many.sum())
        world = np.tile(runner.world_shapes, len(islands))
        self.shapes, shape_first = _by_island(
            count,
            [of_row[chosen[of_row]], np.repeat(with_, many), np.repeat(islands, len(runner.world_shapes))],
            [rows, theirs, world],
        )
        of_pair = runner.islands_of_pairs(label, keyed)
        pairs = np.flatnonzero(chosen[of_pair])
        self.pairs, pair_first = _by_island(count, [of_pair[pairs]], [pairs])
        self.starts = np.stack([body_first, joint_first, shape_first, pair_first], axis=1)
        self.made = (
            np.empty(len(self.bodies), BODY),
            np.empty(len(self.joints), JOINT),
            np.zeros((len(self.bodies), substeps, 3)),
        )
        self.results = np.zeros((count, COUNTERS + 4), np.int64)
        self.rooms = np.zeros(count, int)
        sizes = np.diff(self.starts, axis=0)[islands]
        self.largest = int(sizes[:, 0].max()), int(sizes[:, 1].max()), int(sizes[:, 2].max())
        self.cost = sizes[:, 0] + sizes[:, 3]

    def lists(self) -> tuple[np.ndarray, ...]:
        """Bodies, joints, shapes and remembered pairs, island by island."""
        return self.bodies, self.joints, self.shapes, self.pairs


def _by_island(count: int, islands: list[np.ndarray], members: list[np.ndarray]) -> tuple[np.ndarray, np.ndarray]:
    """Members in the order of their islands, and where each of ``count`` islands begins (count + 1,)."""
    island, member = np.concatenate(islands).astype(int), np.concatenate(members).astype(int)
    first = np.zeros(count + 1, np.int64)
    np.cumsum(np.bincount(island, minlength=count), out=first[1:])
    return np.ascontiguousarray(member[np.argsort(island, kind="stable")]), first


def components(parents: np.ndarray, children: np.ndarray, n: int) -> np.ndarray:
    """Which bodies hang together by joints (n,): the lowest index of each component. Parents -1 are the world."""
    inside = np.asarray(parents) >= 0
    rows, columns = np.asarray(parents, int)[inside], np.asarray(children, int)[inside]
    # the lowest label spreads; SciPy's graphs would take as long to import as all else that a start needs
    label = np.arange(n)
    while True:
        lower = label.copy()
        np.minimum.at(lower, rows, label[columns])
        np.minimum.at(lower, columns, label[rows])
        lower = lower[lower]
        if np.array_equal(lower, label):
            return label
        label = lower
