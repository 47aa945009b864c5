"""A steered figure led by a list of words instead of keys: the same without a window."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from artuline.core.errors import ArtulineError
from artuline.core.run.steered import Steered
from artuline.core.scene.model import Figure

WORDS = ("stand", "walk", "run", "left", "right", "about", "mirror", "hit")
MOST = 600.0  # s of one word
TURNED = 1.0  # of the fastest turn, for left and right
STRUCK = (150.0, 0.15)  # N s of a hit, forward, and the share of it that lifts


@dataclass(frozen=True)
class Word:
    """What is done for some seconds; ``amount``: m/s, or N s of a hit, where that is given."""

    word: str
    seconds: float
    amount: float | None = None


def words_of(text: str) -> list[Word]:
    """``walk:3, left:1.5, hit=200:6`` as a list: a word, its amount after ``=``, the seconds after ``:``. Raises ArtulineError."""
    found = []
    for part in text.replace(",", " ").split():
        name, _, seconds = part.partition(":")
        name, _, amount = name.partition("=")
        try:
            made = Word(name, float(seconds) if seconds else 1.0, float(amount) if amount else None)
            if (
                name not in WORDS
                or not 0.0 <= made.seconds <= MOST
                or not (made.amount is None or 0.0 <= made.amount <= 1e6)
            ):
                raise ValueError
        except ValueError as error:
            raise ArtulineError(
                f"{part!r} cannot be followed",
                remedy=f"Give one of {', '.join(WORDS)}, then :SECONDS, as in walk:3 left:1.5 run=2.5:2 hit=200:6.",
            ) from error
        found.append(made)
    if not found:
        raise ArtulineError("nothing is to be done", remedy="Give words, as in walk:3 left:1.5 run:2.")
    return found


def direct(steered: Steered, figure: str, words: list[Word], each: Callable[[], None] = lambda: None) -> None:
    """Lead a figure by words; ``each`` is called after every step. A turn is made at the speed that it has."""
    paces, speed = steered.pilots[figure].paces, 0.0
    for w in words:
        turn = 0.0
        if w.word == "stand":
            speed = 0.0
        elif w.word == "walk":
            speed = w.amount if w.amount is not None else paces.moving[0].speed
        elif w.word == "run":
            speed = w.amount if w.amount is not None else paces.fastest
        elif w.word in ("left", "right"):
            turn = TURNED if w.word == "left" else -TURNED
        elif w.word == "about":
            steered.turn_about(figure)
        elif w.word == "mirror":
            steered.mirror(figure)
        else:
            _hit(steered, figure, w.amount if w.amount is not None else STRUCK[0])
        steered.steer(figure, speed, turn)
        for _ in range(round(w.seconds / steered.step_time)):
            steered.step()
            each()


def _hit(steered: Steered, figure: str, amount: float) -> None:
    pilot = steered.pilots[figure]
    ahead = np.array([np.sin(pilot.heading), STRUCK[1], np.cos(pilot.heading)])
    f = steered.scene.figure(figure)
    steered.knock(figure, trunk_of(f), amount * ahead)


def trunk_of(figure: Figure) -> str:
    """The bone that a hit is aimed at: the chest by its name, else the topmost with a body."""
    named = [b.bone for b in figure.bodies if any(w in b.bone.lower() for w in ("chest", "thorax", "ribs"))]
    return named[0] if named else figure.bodies[0].bone
