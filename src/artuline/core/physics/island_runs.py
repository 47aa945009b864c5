"""The frame of a world, island by island, on all cores."""

import os
import queue
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor

import numpy as np

from artuline.core.physics.batches import Batch, Given, Membership, Room, Solved, components
from artuline.core.physics.frames import frame
from artuline.core.physics.islands import (
    carry_keyed,
    collect,
    divide,
    find_awake,
    note_rest,
    run_islands,
)
from artuline.core.physics.missed import find_missed, sweep_boxes
from artuline.core.physics.patches import skin_mates
from artuline.core.physics.skins import bound_skins
from artuline.core.physics.state import (
    ASKED,
    CONTACTS,
    COUNTERS,
    DONE,
    FACTORED,
    FULL,
    HALF,
    HALTED,
    NEAR,
    SOLVED,
    SWEPT,
)

#: Shapes up to which a world's only island is solved where it is, with room for all pairs.
MOST_IN_PLACE = 64
#: Place of the parts' counters in what ``make_parts`` makes.
KP = 7
REPORTED = ("penetration", "strongest")
REPORTED_OF_JOINTS = ("separation", "excess", "used")

#: Threads that islands run on; set it before the first step.
threads = os.cpu_count() or 1


class IslandRunner(Membership):
    """Runs the frames of a world."""

    def __init__(self, world: Solved):
        super().__init__(world)
        n = len(world.bodies)
        self.label = np.zeros(n, np.int64)
        self.met = np.zeros((max(64, 2 * n), 2), np.int64)
        self.wide, self.axis = world.row.copy(), np.zeros(1, np.int64)
        self.boxes, self.by_box = np.zeros((n, 6)), np.arange(n)
        self.rooms: list[Room] = []
        self.held: tuple[bytes, ...] = ()
        self.shape: tuple[bytes, ...] = ()  # of the world: which joints hold, what is free in a part of the frame
        self.loose, self.whole = np.zeros(n, bool), False
        self.no_trace = np.zeros((0, 1, 3))
        self.reports: dict[str, np.ndarray] = {}
        #: By the body that a patch of skin is on, the bodies that move it.
        self.mates = skin_mates(world.shapes)
        self.contact = np.zeros(n)

    def run(self, given: Given) -> None:
        """Advance the world by a frame."""
        w = self.world
        b = w.bodies
        if self.mates:
            bound_skins(b, w.shapes, w.hulls, given.x, given.q, given.free, given.dt)
            w.measure_reach()
        whole = self._is_one(given)
        # nothing that moves can sleep
        quiet = b["rest"].max(initial=0.0) > 0.0
        count, met = (1, self.met[:0]) if whole else self._divide(given)
        awake = np.ones(count, bool)
        held = (given.gravity.tobytes(), given.wind.tobytes(), self.shape[0]) if quiet else ()
        if quiet and held == self.held:
            if whole:
                self.label[:] = np.where(self.loose, 0, -1)
                met = np.array(
                    [[int(np.argmax(self.loose)), i] for i in np.flatnonzero(~self.loose)], np.int64
                ).reshape(-1, 2)
            find_awake(
                b, w.joints, w.tugs, self.label, met, given.x, given.q, given.free, given.goal, given.drive, awake
            )
        self.held = held
        before = b["contact"].copy() if quiet else self.contact
        if whole and awake[0]:
            # what was in an island of several trees is in the only one now
            b["cell"] = 0
            frame(
                b, w.blocks, w.joints, w.lanes, w.shapes, w.pairs, w.spare, w.slots, w.apart, w.row, w.contacts, w.memory,
                w.tugs, w.counters, w.hulls, w.scratch, w.coupled, w.elimination, w.parts, given.gravity, given.wind, given.h,
                *given.arrays(), self.no_trace,
            )  # fmt: skip
        elif not awake.any():
            carry_keyed(b, self.label, given.x, given.q, given.h)
            w.counters[ASKED] += len(given.gravity)
            w.counters[DONE] += len(given.gravity)
        else:
            awake = self._run_apart(given, met, awake)
        note_rest(b, given.dt)
        if quiet:
            self._report(awake, before)

    def _is_one(self, given: Given) -> bool:
        """Whether all that is free hangs together by joints, in a world that is small enough to be solved where it is."""
        w = self.world
        loose = np.asarray(given.free.any(axis=1))
        shape = (w.joints["on"].tobytes() + w.joints["broken"].tobytes(), loose.tobytes())
        if shape != self.shape:
            self.shape, self.loose = shape, loose
            j = w.joints
            there = j["on"] & (j["broken"] < 0) & (j["parent"] >= 0)
            there[there] = loose[j["parent"][there]] & loose[j["child"][there]]
            tree = components(j["parent"][there], j["child"][there], len(loose))[loose]
            self.whole = (
                not self.mates and len(w.shapes) <= MOST_IN_PLACE and len(tree) > 0 and bool((tree == tree[0]).all())
            )
            w.parts[KP][:] = 0
        return self.whole

    def _divide(self, given: Given) -> tuple[int, np.ndarray]:
        w = self.world
        while True:
            count, meetings = divide(
                w.bodies,
                w.joints,
                w.shapes,
                w.apart,
                w.row,
                self.wide,
                self.axis,
                self.label,
                self.tree,
                self.met,
                given.x,
                given.q,
                given.free,
                given.dt,
            )
            if meetings <= len(self.met):
                return count, self._with_mates(self.met[:meetings], self.label)
            self.met = np.zeros((2 * meetings, 2), np.int64)

    def _with_mates(self, met: np.ndarray, label: np.ndarray) -> np.ndarray:
        """Meetings (k, 2) of free bodies with bodies on their keys, and with those that move the skin of either; label (n,): their islands."""
        if not self.mates:
            return met
        more = [met]
        for i, mates in self.mates.items():
            away = mates[label[mates] < 0]
            mine = np.array([i]) if label[i] >= 0 else np.unique(met[met[:, 1] == i, 0])
            if len(mine) and len(away):
                more.append(np.stack([np.repeat(mine, len(away)), np.tile(away, len(mine))], axis=1))
        return np.unique(np.concatenate(more), axis=0)

    def _report(self, awake: np.ndarray, before: np.ndarray) -> None:
        """What bodies and joints that sleep have felt is what they felt before."""
        b, j = self.world.bodies, self.world.joints
        if not awake.any():
            for rows, names in ((b, REPORTED), (j, REPORTED_OF_JOINTS)):
                for name in names:
                    np.maximum(rows[name], self.reports[name], out=rows[name])
            b["contact"] += self.contact
            return
        if not awake.all():
            asleep = (self.label >= 0) & ~np.append(awake, True)[self.label]
            for name in REPORTED:
                b[name][asleep] = np.maximum(b[name][asleep], self.reports[name][asleep])
            b["contact"][asleep] = before[asleep] + self.contact[asleep]
            of_joint = self.islands_of_joints(self.label)
            mine = (of_joint >= 0) & ~np.append(awake, True)[of_joint]
            for name in REPORTED_OF_JOINTS:
                j[name][mine] = np.maximum(j[name][mine], self.reports[name][mine])
        self.contact = b["contact"] - before
        self.reports = {name: b[name].copy() for name in REPORTED} | {
            name: j[name].copy() for name in REPORTED_OF_JOINTS
        }

    def _run_apart(self, given: Given, met: np.ndarray, awake: np.ndarray) -> np.ndarray:
        """Run the islands that are awake; which are in the end, by the labels then."""
        w, count = self.world, len(awake)
        label = self.label.copy()
        keyed = self._guests(label, met)
        batches: list[Batch] = []
        valid: list[np.ndarray] = []
        running = np.flatnonzero(awake)
        for room in self.rooms:
            room.counts[:] = 0
        while len(running):
            batch = Batch(self, running, label, keyed, count, len(given.gravity))
            self._run_batch(batch, given)
            batches.append(batch)
            valid.append(running)
            missed = self._missed(batches, valid, label, keyed, given)
            if not len(missed):
                break
            label, keyed, running, awake = self._merge(missed, label, keyed, awake)
            # what has been merged is no longer there, or is run again
            valid = [v[np.isin(v, label) & ~np.isin(v, running)] for v in valid]
        self._remember(batches, valid, label, keyed, awake)
        w.joints["live"][self.islands_of_joints(label) < 0] = False
        for batch, islands in zip(batches, valid):
            self._collect(batch, islands, label)
        carry_keyed(w.bodies, label, given.x, given.q, given.h)
        self._count(batches, valid, len(given.gravity))
        self.label = label
        return awake

    def _guests(self, label: np.ndarray, met: np.ndarray) -> np.ndarray:
        """Sorted numbers island * n + body of the bodies on their keys that islands may touch, or hang on."""
        j, n = self.world.joints, len(label)
        of_joint = self.islands_of_joints(label)
        found = [label[met[:, 0]] * n + met[:, 1]]
        for end in (j["child"], j["parent"]):
            there = (of_joint >= 0) & (end >= 0)
            there[there] = label[end[there]] < 0
            found.append(of_joint[there] * n + end[there])
        return np.unique(np.concatenate(found))

    def _run_batch(self, batch: Batch, given: Given) -> None:
        """Run all islands of a batch; those that did not have room enough again with more."""
        w = self.world
        order = batch.islands[np.argsort(-batch.cost, kind="stable")]
        workers = min(threads, len(order))
        while len(self.rooms) < workers:
            self.rooms.append(Room(w))
        for room in self.rooms[:workers]:
            room.fit(*batch.largest, len(given.gravity))
        world = (w.bodies, w.joints, w.shapes, w.tugs, w.apart, self.tree, w.counters)

        def work(k: int, islands: np.ndarray) -> None:
            room = self.rooms[k]
            batch.rooms[islands] = k
            left = islands
            while len(left):
                run_islands(
                    left, world, (w.pairs, w.memory), batch.lists(), batch.starts, given.arrays(), batch.made,
                    room.room, room.parts, room.taken, room.remembered, room.counts, batch.results,
                    given.gravity, given.wind, given.h,
                )  # fmt: skip
                left = left[batch.results[left, FULL] > 0]
                if len(left):
                    room.grow()

        if workers == 1:
            work(0, order)
            return
        _in_shares(order, batch.cost[np.argsort(-batch.cost, kind="stable")], workers, work)

    def _collect(self, batch: Batch, islands: np.ndarray, label: np.ndarray) -> None:
        """Copy what islands of a batch have come to back into the world."""
        w = self.world
        workers = min(threads, len(islands))

        def work(_: int, share: np.ndarray) -> None:
            collect(share, w.bodies, w.joints, batch.lists(), batch.starts, batch.made, label, False)

        if workers > 1:
            _in_shares(islands, np.ones(len(islands), np.int64), workers, work)
        else:
            work(0, islands)
        if (label[batch.bodies] < 0).any():
            collect(islands, w.bodies, w.joints, batch.lists(), batch.starts, batch.made, label, True)

    def _missed(
        self, batches: list[Batch], valid: list[np.ndarray], label: np.ndarray, keyed: np.ndarray, given: Given
    ) -> np.ndarray:
        """Bodies (k, 2) that came near others, though they were not run together."""
        w, n = self.world, len(label)
        if given.free.all() and not any(batch.made[0]["strayed"].any() for batch in batches):
            return np.zeros((0, 2), int)
        where, strayed = np.full(n, -1), np.zeros(n, bool)
        traces, offset = [], 0
        for batch, islands in zip(batches, valid):
            bodies, made = batch.bodies, batch.made[0]
            rows = np.flatnonzero((label[bodies] >= 0) & np.isin(label[bodies], islands))
            # of this batch's own islands: what was merged since is in a later one
            where[bodies[rows]] = offset + rows
            strayed[bodies[rows]] = made["strayed"][rows] | ~given.free[bodies[rows]].all(axis=1)
            traces.append(batch.made[2])
            offset += len(bodies)
        if not strayed.any():
            return np.zeros((0, 2), int)
        trace = traces[0] if len(traces) == 1 else np.concatenate(traces)
        sweep_boxes(w.bodies, where, trace, given.x, label, self.boxes)
        self.by_box = self.by_box[np.argsort(self.boxes[self.by_box, 0], kind="stable")]
        missed = np.zeros((n, 2), np.int64)
        found = find_missed(
            w.bodies, w.apart, self.by_box, self.boxes, where, strayed, trace, given.x, label, keyed, missed
        )
        return missed[:found]

    def _merge(
        self, missed: np.ndarray, label: np.ndarray, keyed: np.ndarray, awake: np.ndarray
    ) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
        """Islands merged by what was missed: the new labels and guests, which to run, which are awake."""
        n = len(label)
        new = np.arange(len(awake))
        for a, b in missed:
            i, j = label[a], label[b]
            if j < 0:
                continue
            while new[i] != i:
                i = new[i]
            while new[j] != j:
                j = new[j]
            new[max(i, j)] = min(i, j)
        while True:
            up = new[new]
            if np.array_equal(up, new):
                break
            new = up
        guests = missed[label[missed[:, 1]] < 0]
        guests = self._with_mates(guests, label)
        touched = np.unique(new[label[missed[label[missed] >= 0]]])
        keyed = np.concatenate([keyed, label[guests[:, 0]] * n + guests[:, 1]])
        keyed = np.unique(new[keyed // n] * n + keyed % n)
        awake = awake.copy()
        awake[touched] = True
        return np.where(label >= 0, new[label], -1), keyed, touched, awake

    def _remember(
        self, batches: list[Batch], valid: list[np.ndarray], label: np.ndarray, keyed: np.ndarray, awake: np.ndarray
    ) -> None:
        """Put the pairs that touch, of all islands, into the world's own arrays."""
        w = self.world
        if w.counters[NEAR] == 0 and not any(room.counts.any() for room in self.rooms):
            return
        pairs, memories, offset = [], [], 0
        for k, room in enumerate(self.rooms):
            kept, memory = (a[:c].copy() for a, c in zip(room.remembered, room.counts))
            stay = np.ones(len(kept), bool)
            for batch, islands in zip(batches, valid):
                gone = np.setdiff1d(batch.islands, islands)
                for island in gone[batch.rooms[gone] == k]:
                    stay[batch.results[island, COUNTERS] : batch.results[island, COUNTERS + 1]] = False
            kept["old"] += offset
            offset += len(memory)
            pairs.append(kept[stay])
            memories.append(memory)
        of_pair = self.islands_of_pairs(label, keyed)
        asleep = w.pairs[: w.counters[NEAR]][(of_pair >= 0) & ~np.append(awake, True)[of_pair]]
        old = np.repeat(asleep["old"] - np.cumsum(asleep["olds"]) + asleep["olds"], asleep["olds"]) + np.arange(
            asleep["olds"].sum()
        )
        memories.append(w.memory[old])
        asleep["old"] = offset + np.cumsum(asleep["olds"]) - asleep["olds"]
        pairs.append(asleep)
        w.hold_pairs(np.concatenate(pairs), np.concatenate(memories))

    def _count(self, batches: list[Batch], valid: list[np.ndarray], substeps: int) -> None:
        k = self.world.counters
        results = np.concatenate(
            [b.results[v] for b, v in zip(batches, valid)] or [np.zeros((0, COUNTERS + 4), np.int64)]
        )
        for c in (FACTORED, SOLVED, HALTED):
            k[c] += results[:, c].sum()
        for c in (CONTACTS, SWEPT):
            k[c] = results[:, c].sum()
        k[ASKED] += substeps
        k[DONE] += max(substeps, int(results[:, DONE].max(initial=0)))
        # what is next solved in place begins anew
        k[HALF] = 0
        self.world.parts[KP][:] = 0


_threads: list[ThreadPoolExecutor] = []


def _in_shares(islands: np.ndarray, cost: np.ndarray, workers: int, work: Callable[[int, np.ndarray], None]) -> None:
    """Call ``work(worker, islands)`` from several threads until all islands are done. Each takes a share of what is left, so that the
    last shares are small, and all threads end at about the same time.
    """
    todo: queue.SimpleQueue[np.ndarray] = queue.SimpleQueue()
    left = np.cumsum(cost[::-1])[::-1]
    first = 0
    while first < len(islands):
        last = int(np.searchsorted(-left, -left[first] * (1.0 - 0.5 / workers), side="right"))
        last = max(last, first + 1)
        todo.put(islands[first:last])
        first = last

    def drain(k: int) -> None:
        while True:
            try:
                share = todo.get_nowait()
            except queue.Empty:
                return
            work(k, share)

    # this thread works too: it has a core already
    others = [_pool().submit(drain, k) for k in range(1, workers)]
    drain(0)
    for other in others:
        other.result()


def _pool() -> ThreadPoolExecutor:
    if not _threads:
        _threads.append(ThreadPoolExecutor(threads, "islands"))
    return _threads[0]
