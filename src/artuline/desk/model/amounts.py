"""What is typed into a number field: numbers, units and simple sums, with a comma or a point; everything else is refused with a word."""

import math
import re
from dataclasses import dataclass

# Families of units: what one of each is in the first one's
_FAMILIES: tuple[dict[str, float], ...] = (
    {"m": 1.0, "mm": 1e-3, "cm": 1e-2, "dm": 0.1, "km": 1e3, "in": 0.0254, "ft": 0.3048},
    {"kg": 1.0, "g": 1e-3, "t": 1e3, "lb": 0.45359237},
    {"°": 1.0, "deg": 1.0, "rad": 180.0 / math.pi},
    {"°/s": 1.0, "deg/s": 1.0, "rad/s": 180.0 / math.pi},
    {"m/s": 1.0, "cm/s": 1e-2, "mm/s": 1e-3, "km/h": 1.0 / 3.6},
    {"m/s²": 1.0, "m/s2": 1.0, "cm/s²": 1e-2, "g0": 9.80665},
    {"s": 1.0, "ms": 1e-3, "min": 60.0},
    {"Hz": 1.0, "kHz": 1e3},
    {"kg/m³": 1.0, "kg/m3": 1.0, "g/cm³": 1e3, "g/cm3": 1e3},
    {"N s": 1.0, "Ns": 1.0},
    {"N m": 1.0, "Nm": 1.0},
)
_NUMBER = r"(?:\d+(?:[.,]\d*)?|[.,]\d+)(?:[eE][+-]?\d+)?"
_TOKEN = re.compile(rf"\s*(?:({_NUMBER})|([-+*/()])|([^\s\d+\-*/().,][^\d+*()]*))")


class AmountError(ValueError):
    """What was typed is not an amount; the text says why."""


@dataclass
class _Reader:
    tokens: list[tuple[str, str]]
    scale: dict[str, float]
    unit: str
    at: int = 0

    def peek(self) -> tuple[str, str]:
        return self.tokens[self.at] if self.at < len(self.tokens) else ("", "")

    def take(self, text: str) -> bool:
        if self.peek() == ("sign", text):
            self.at += 1
            return True
        return False

    def total(self) -> float:
        value = self.product()
        while True:
            if self.take("+"):
                value += self.product()
            elif self.take("-"):
                value -= self.product()
            else:
                return value

    def product(self) -> float:
        value = self.factor()
        while True:
            if self.take("*"):
                value *= self.factor()
            elif self.take("/"):
                by = self.factor()
                if by == 0.0:
                    raise AmountError("nothing can be divided by zero")
                value /= by
            else:
                return value

    def factor(self) -> float:
        if self.take("-"):
            return -self.factor()
        if self.take("+"):
            return self.factor()
        if self.take("("):
            value = self.total()
            if not self.take(")"):
                raise AmountError("a bracket is not closed")
            return self.united(value)
        kind, text = self.peek()
        if kind != "number":
            raise AmountError(f"“{text}” is not a number" if text else "a number is missing")
        self.at += 1
        return self.united(float(text.replace(",", ".")))

    def united(self, value: float) -> float:
        kind, text = self.peek()
        if kind != "word":
            return value
        self.at += 1
        if text not in self.scale:
            known = ", ".join(dict.fromkeys(self.scale)) or "none"
            raise AmountError(f"“{text}” is not a unit of this (there is: {known})")
        return value * self.scale[text]


def units_of(unit: str) -> dict[str, float]:
    """The units that may be typed for a field in ``unit``, and what one of each is in it."""
    for family in _FAMILIES:
        if unit in family:
            return {name: size / family[unit] for name, size in family.items()}
    first = unit.split(" ")[0]
    return {name: 1.0 for name in (unit, first) if name}


def parse(text: str, unit: str = "", now: float | None = None) -> float:
    """The amount that a text says, in ``unit``. A text that begins with + or * changes the present amount ``now``: +5 is five more, *2 twice as much.

    Raises AmountError with a word that says why it cannot be read.
    """
    plain = text.replace("−", "-").replace("×", "*").replace("\u202f", "").replace("\u00a0", " ").strip()
    if not plain:
        raise AmountError("nothing was typed")
    tokens, at = [], 0
    while at < len(plain):
        match = _TOKEN.match(plain, at)
        if match is None or match.end() == at:
            raise AmountError(f"“{plain[at:].strip()}” cannot be read")
        number, sign, word = match.groups()
        if number is not None:
            tokens.append(("number", number))
        elif sign is not None:
            tokens.append(("sign", sign))
        else:
            tokens.append(("word", word.strip()))
        at = match.end()
        while at < len(plain) and plain[at].isspace():
            at += 1
    if tokens[0] in (("sign", "+"), ("sign", "*")) and now is not None:
        tokens = [("number", repr(abs(float(now)))), *tokens]
        if now < 0.0:
            tokens = [("sign", "-"), *tokens]
    reader = _Reader(tokens, units_of(unit), unit)
    value = reader.total()
    if reader.at < len(tokens):
        raise AmountError(f"“{reader.peek()[1]}” does not belong there")
    if not math.isfinite(value):
        raise AmountError("that is too large")
    return value


def shown(value: float, decimals: int) -> str:
    """A number with so many decimals, or with up to three more where it is a plain number that needs them, such as 23.976."""
    for more in range(4):
        if abs(round(value, decimals + more) - value) <= 1e-9 * max(abs(value), 1.0):
            return f"{value:.{decimals + more}f}".replace("-", "−")
    return f"{value:.{decimals}f}".replace("-", "−")
