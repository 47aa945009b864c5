"""The ways of chosen bodies through a take, for the stations that look at one."""

from artuline.core.run.measures import shown_places
from artuline.desk import theme
from artuline.desk.desk import Desk
from artuline.view.palette import rgb
from artuline.view.stage import Marks


def add_trails(marks: Marks, desk: Desk) -> None:
    """Mark the ways of the chosen bodies in the take, and in the one that it is compared with."""
    session = desk.session
    take, f, bones = session.take(), session.figure(), session.chosen()
    if take is None or f is None or not bones or desk.stage.live.tryout is not None:
        return
    palette = theme.palette()
    for shown, color in ((take, palette.vermilion), (desk.comparison.take(), palette.faint)):
        if shown is None:
            continue
        places, _ = shown_places(session.scene, shown)
        for b in f.bodies:
            column = shown.column(f.id, b.id)
            if b.bone in bones and column is not None:
                marks.trails.append((places[:, column], (*rgb(color), 0.9)))
