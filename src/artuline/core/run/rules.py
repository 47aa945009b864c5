"""Who is handed over by a rule, and when: looked at before every frame."""

from collections.abc import Collection, Mapping
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from artuline.core.run.build import Built
from artuline.core.scene.rule import Rule

TOUCH = 0.004  # m within which something touches


@dataclass(frozen=True)
class Given:
    """A figure (index) that a rule hands over from a frame on; ``by``: the row of the body that touched it, -1 for none."""

    figure: int
    frame: float
    rule: Rule
    by: int = -1

    def said(self, built: Built) -> tuple[str, int, str, str]:
        """Who was handed over, at which frame, by which rule, and what touched it."""
        by = built.body_refs[self.by] if self.by >= 0 else None
        touched = f"{by.figure}: {by.body}" if by is not None else ""
        return built.parts[self.figure].figure.id, round(self.frame), self.rule.id, touched


class Rules:
    """The rules of a scene in a world, for all figures but some (ids). ``given``: what was handed over so far, by the index of the figure."""

    def __init__(self, built: Built, without: Collection[str] = ()):
        self.built, self.given = built, dict[int, Given]()
        scene = built.scene
        self._whose: list[tuple[Rule, list[int]]] = [
            (
                rule,
                [
                    k
                    for k, p in enumerate(built.parts)
                    if len(p.rows) and rule.figure in (p.figure.id, p.figure.like) and p.figure.id not in without
                ],
            )
            for rule in scene.rules
            if not rule.muted
        ]
        #: By rule and figure: the bodies that a figure stood on when its rule began; frames by chance.
        self._ground: dict[tuple[str, int], set[int]] = {}
        self._frames: dict[tuple[str, int], float] = {}
        for rule, figures in self._whose:
            chance = np.random.default_rng(int(rule.seed))
            for k in figures:
                hit, when = chance.uniform(), chance.uniform()
                if rule.when == "chance" and hit < rule.share:
                    self._frames[rule.id, k] = rule.frame + np.floor(when * (rule.over + 1.0))

    def __bool__(self) -> bool:
        return bool(self._whose)

    def go_on(self, before: "Rules", rows: Mapping[int, int]) -> None:
        """Know what rules knew in another world with the same figures; ``rows``: its bodies' rows in this one."""
        index = {p.figure.id: k for k, p in enumerate(self.built.parts)}
        same = {k: index[p.figure.id] for k, p in enumerate(before.built.parts) if p.figure.id in index}
        self.given = {
            same[k]: replace(g, figure=same[k], by=rows.get(g.by, -1)) for k, g in before.given.items() if k in same
        }
        for (rule, k), ground in before._ground.items():
            if k in same:
                self._ground[rule, same[k]] = {rows[r] for r in ground if r in rows}

    def look(self, frame: float) -> list[Given]:
        """Whom rules hand over in the frame that begins here, with everything where it is now."""
        found: list[Given] = []
        for rule, figures in self._whose:
            if frame < rule.frame:
                continue
            left = [k for k in figures if k not in self.given and k not in {g.figure for g in found}]
            if rule.when == "frame":
                found += [Given(k, frame, rule) for k in left]
            elif rule.when == "chance":
                found += [Given(k, frame, rule) for k in left if frame >= self._frames.get((rule.id, k), np.inf)]
            elif rule.when == "inside":
                found += [Given(k, frame, rule) for k in left if self._inside(rule, k)]
            elif left and rule.when == "left":
                found += [Given(k, frame, rule) for k in self._left(rule, left)]
            elif left:
                found += [Given(k, frame, rule, by) for k, by in self._touched(rule, left).items()]
        self.given |= {g.figure: g for g in found}
        return found

    def _inside(self, rule: Rule, k: int) -> bool:
        x = self.built.world.bodies["x"][self.built.parts[k].rows]
        return bool((np.abs(x - np.array(rule.middle)) <= 0.5 * np.array(rule.size)).all(axis=1).any())

    def _owner(self) -> NDArray[np.int64]:
        """The index of the figure of every body (n,)."""
        owner = np.full(self.built.count, -1)
        for k, part in enumerate(self.built.parts):
            owner[part.rows] = k
        return owner

    def _stood_on(self, rule: Rule, figures: list[int], owner: NDArray[np.int64]) -> None:
        """Note what figures stand on that a rule looks at for the first time."""
        new = [k for k in figures if (rule.id, k) not in self._ground]
        for k in new:
            self._ground[rule.id, k] = set()
        for k, other in self._pairs(new, owner) if new else ():
            self._ground[rule.id, k].add(other)

    def _left(self, rule: Rule, figures: list[int]) -> list[int]:
        """Those that stood on something, and touch none of it now."""
        owner = self._owner()
        self._stood_on(rule, figures, owner)
        firm = {int(r) for p in self.built.parts if p.figure.obstacle for r in p.rows}
        had = [k for k in figures if self._ground[rule.id, k] & firm]
        still = (
            {k for k, other in self._pairs(had, owner) if other in self._ground[rule.id, k] & firm} if had else set()
        )
        return [k for k in had if k not in still]

    def _touched(self, rule: Rule, figures: list[int]) -> dict[int, int]:
        """Those that something touches now which they did not stand on, and what it is (row)."""
        world = self.built.world
        owner = self._owner()
        self._stood_on(rule, figures, owner)
        # what comes within the frame is already taken for touching, so that nothing is entered before it gives way
        frame = 1.0 / self.built.scene.rate
        # who still stands does not push another over
        still = {
            k for k, p in enumerate(self.built.parts) if any(k in f for _, f in self._whose) and k not in self.given
        }
        moves = ~np.isin(owner, list(still))
        near = []
        for k in figures:
            rows = self.built.parts[k].rows
            others = np.flatnonzero(moves)
            others = others[~np.isin(others, list(self._ground[rule.id, k]))]
            others = others[world.bodies["reach"][others] >= 0.0]
            if len(others) and _close(world.bodies, rows, others, frame):
                near.append(k)
        found: dict[int, int] = {}
        for k, other in self._pairs(near, owner, frame) if near else ():
            if moves[other] and other not in self._ground[rule.id, k]:
                found.setdefault(k, other)
        return found

    def _pairs(self, figures: list[int], owner: NDArray[np.int64], ahead: float = 0.0) -> list[tuple[int, int]]:
        """Which of some figures touch which bodies of others (rows) now, or within a time ahead, s."""
        world = self.built.world
        free = np.isin(owner, figures)
        body, v, found = world.shapes["body"], world.bodies["v"], []
        fastest = float(np.linalg.norm(v, axis=1).max(initial=0.0)) if ahead else 0.0
        for c in world.contacts_now(TOUCH + 2.0 * ahead * fastest, free=free):
            a, b = (int(body[s]) for s in c["shapes"])
            # normals point from b to a
            apart = float((v[a] - (v[b] if b >= 0 else 0.0)) @ c["normal"]) if a >= 0 and ahead else 0.0
            if float(c["gap"]) > TOUCH + ahead * max(-apart, 0.0):
                continue
            for one, other in ((a, b), (b, a)):
                if one >= 0 and other >= 0 and free[one] and owner[one] != owner[other]:
                    found.append((int(owner[one]), other))
        return found


def _close(bodies: np.ndarray, rows: NDArray[np.int64], others: NDArray[np.int64], ahead: float) -> bool:
    """Whether the balls around any two bodies meet, or may within a time ahead, s."""
    speed = np.linalg.norm(bodies["v"], axis=1)
    room = ahead * (speed[rows].max() + speed[others])
    gap = np.linalg.norm(bodies["x"][rows][:, None] - bodies["x"][others][None], axis=2)
    return bool((gap < bodies["reach"][rows][:, None] + bodies["reach"][others][None] + TOUCH + room[None]).any())
