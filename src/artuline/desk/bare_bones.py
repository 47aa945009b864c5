"""Bones that have no body: why, and how they get one."""

from collections.abc import Callable

from artuline.core.scene.model import Figure
from artuline.core.setup.coverage import LeftOut, left_out
from artuline.core.setup.patch_fit import BEST, FitChoice
from artuline.core.setup.ragdoll import add_bodies
from artuline.core.setup.skin import cached_skin
from artuline.desk.desk import Desk
from artuline.desk.figure_jobs import figure_job
from artuline.desk.form import Form
from artuline.desk.widgets.fields import button, faint, short


def left_out_of(desk: Desk, f: Figure) -> list[LeftOut] | None:
    """The bones of a figure that carry skin and have no body; None while that is being found out."""
    if f.asset is None or not f.bodies:
        return []
    assets = desk.session.assets
    key = ("left out", f.asset, f.unit, f.position, f.turn, f.bones, f.bodies)
    return desk.later.get(key, lambda: left_out(f, cached_skin(f, assets).share))  # type: ignore[no-any-return]


def give_bodies(desk: Desk, bones: set[str], choice: FitChoice = BEST) -> None:
    """Give bones of the present figure bodies, on both sides where that is wanted."""
    assets = desk.session.assets

    def work(f: Figure, progress: Callable[[int, int], None], cancelled: Callable[[], bool]) -> Figure:
        return add_bodies(f, assets, desk.sides.bones(f, bones - set(f.body_of)), choice, progress, cancelled)

    figure_job(desk, "Add bodies", work)


def fill_bare(d: Form, f: Figure, bones: set[str], choice: FitChoice = BEST) -> None:
    """Of bones without a body: with whose they go along, and the button that gives them one; without skin, why there is none."""
    desk = d.desk
    bare = sorted(bones, key=lambda b: f.bone_index[b])
    names = short(bare[0], 16) if len(bare) == 1 else f"{len(bare)} of these bones"
    carrier = f.carrier(bare[0])
    goes = f": it goes along with {carrier.bone}" if carrier is not None and len(bare) == 1 else ""
    d.add(
        faint(f"{names} {'has' if len(bare) == 1 else 'have'} no body{' of its own' if len(bare) == 1 else ''}{goes}.")
    )
    found = left_out_of(desk, f)
    known = {b for x in found for b in x.bones} if found is not None else set(bare)
    with_skin = {b for b in bare if b in known}
    if with_skin:
        d.add(button("Give it a body" if len(bare) == 1 else "Give them bodies", lambda: give_bodies(desk, with_skin, choice),
                     icon="plus", tip="Fits a shape to the skin of the bone, and joins it to the body above"))  # fmt: skip
    else:
        d.add(faint("No skin belongs to it, so none can be fitted: choose a bone that carries skin."))


def left_out_words(found: list[LeftOut]) -> str:
    """What was left out, and why."""
    bones = [b for x in found for b in x.bones]
    share = 100.0 * sum(x.share for x in found)
    some = ", ".join(short(b, 18) for b in bones[:4]) + (f" and {len(bones) - 4} more" if len(bones) > 4 else "")
    if len(bones) == 1:
        return (
            f"{some} has too little skin for a body of its own ({share:.1f} %): it goes along with {found[0].carrier}."
        )
    return f"{len(bones)} bones have too little skin for a body of their own ({share:.1f} % together): {some}. They go along with the bodies above."


def fill_left_out(d: Form, f: Figure, choice: FitChoice = BEST) -> None:
    """What has no body, and the button that adds them."""
    found = left_out_of(d.desk, f)
    if found:
        bones = {b for x in found for b in x.bones}
        d.add(faint(left_out_words(found)))
        d.add(button("Add it" if len(bones) == 1 else f"Add these {len(bones)}", lambda: give_bodies(d.desk, bones, choice), icon="plus",
                     tip="Fits shapes to their skin, and joins them to the bodies above"))  # fmt: skip
