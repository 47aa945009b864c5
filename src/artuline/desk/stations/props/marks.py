"""The pins of a thing's hinges, drawn through it."""

import numpy as np

from artuline.core.geometry import rotation
from artuline.core.motion.skeleton import rigid
from artuline.desk import theme
from artuline.desk.stations.props.commands import Commands
from artuline.view.palette import rgb
from artuline.view.stage import Marks

REACH = 0.9  # share of the thing's size that a pin is long


def mark_pins(marks: Marks, c: Commands) -> None:
    """A line through every hinge of the thing in hand, the chosen one in ink."""
    f = c.thing()
    if f is None or c.stage.live.tryout is not None:
        return
    states = c.stage.view().states
    index = next(i for i, x in enumerate(c.session.scene.figures) if x.id == f.id)
    if index >= len(states) or len(states[index].matrices) != len(f.bones):
        return
    p, q = rigid(states[index].matrices)
    size = max(0.06, REACH * c.size(f))
    chosen, bone, palette = c.joint(), {b.id: f.bone_index[b.bone] for b in f.bodies}, theme.palette()
    for j in f.joints:
        if j.kind != "hinge":
            continue
        b = bone[j.child]
        axis = rotation.rotate(rotation.multiply(q[b], np.array(j.frame)), np.array([1.0, 0.0, 0.0]))
        marks.arcs.add((f.id, j.id))
        mine = chosen is not None and j.id == chosen.id
        color = (*rgb(palette.ink if mine else palette.brass), 1.0)
        marks.trails.append((p[b] + 0.5 * size * np.stack([-axis, axis]), color))
