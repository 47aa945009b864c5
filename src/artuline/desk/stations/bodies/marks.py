"""Colours of shapes: by how they follow the skin, and by mass."""

import math
from collections.abc import Callable, Sequence

import numpy as np

from artuline.core.scene.model import Figure, Scene
from artuline.core.setup.materials import body_mass
from artuline.core.setup.measure import BodyFit
from artuline.desk import theme
from artuline.view.drawlist import Rgba
from artuline.view.palette import rgb
from artuline.view.stage import Marks


def fit_colors(marks: Marks, scene: Scene, fits: Callable[[Figure], Sequence[BodyFit]]) -> None:
    """Teal, brass and crimson by the grade of their fit."""
    palette = theme.palette()
    teal, brass, crimson = (rgb(c) for c in (palette.teal, palette.brass, palette.crimson))
    for f in scene.cast:
        for fit in fits(f):
            color = crimson if fit.grade > 0.5 else (brass if fit.grade > 0.25 else teal)
            marks.shape_colors[f.id, fit.body] = (*color, 0.94)
    words = ((palette.teal, "follows the skin"), (palette.brass, "fair"), (palette.crimson, "look at it"))
    marks.legend = "Fit", words


def mass_colors(marks: Marks, scene: Scene) -> None:
    """Light bodies pale, heavy ones dark."""
    marks.centres = True
    palette = theme.palette()
    masses = {(f.id, b.id): body_mass(b) for f in scene.cast for b in f.bodies}
    known = [m for m in masses.values() if m > 0.0]
    if not known:
        return
    low, high = math.log(min(known)), math.log(max(known) * 1.0001)
    light, heavy = np.array(rgb(palette.raised)), np.array(rgb(palette.ink))

    def shade(share: float) -> Rgba:
        r, g, b = light + (heavy - light) * (0.12 + 0.78 * share)
        return float(r), float(g), float(b), 0.94

    for key, mass in masses.items():
        marks.shape_colors[key] = shade((math.log(max(mass, min(known))) - low) / (high - low))
    entries = []
    for share in (1.0, 0.66, 0.33, 0.0):
        r, g, b, _ = shade(share)
        code = "#" + "".join(f"{round(255 * c):02x}" for c in (r, g, b))
        entries.append((code, f"{math.exp(low + share * (high - low)):.2g} kg"))
    marks.legend = "Mass", tuple(entries)
