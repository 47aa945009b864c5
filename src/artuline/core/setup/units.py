"""The length unit of a figure, guessed from its size."""

import numpy as np

UNITS = {1.0: "metres", 0.01: "centimetres", 0.001: "millimetres", 0.0254: "inches", 0.3048: "feet"}


def unit_name(unit: float) -> str:
    """The plain name of a unit given in metres."""
    for value, name in UNITS.items():
        if np.isclose(value, unit):
            return name
    return f"{unit:g} m"


def likely_unit(size: float) -> float:
    """Metres per file unit for a figure of this longest side, in file units.

    A size that is plausible in metres (0.15 to 8) is taken as metres, as the glTF standard asks; otherwise the unit
    that makes it something between a hand and a tall person, decimal units first, unless another makes it a person.
    """
    if size <= 0.0 or 0.15 <= size <= 8.0:
        return 1.0

    def odd(unit: float) -> float:
        real = size * unit
        off = max(np.log(0.15 / real), np.log(real / 2.5), 0.0)
        return float(off + 0.3 * min(abs(np.log(real / 1.7)), 1.2) + (0.25 if unit in (0.0254, 0.3048) else 0.0))

    return min(UNITS, key=odd)
