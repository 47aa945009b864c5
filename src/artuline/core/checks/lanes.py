"""What groups ask for: a tone that sets in within a frame throws back what has fallen away from its keys by then; and groups that move nothing."""

from functools import partial

import numpy as np

from artuline.core.checks.finding import Finding
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Figure, Group, Key, Lane, Scene
from artuline.core.setup.fit import Cancelled, Progress
from artuline.core.setup.ragdoll import add_bodies

SUDDEN = 0.3  # rise of tone within a frame from which on it is said
EASE = 0.25  # seconds over which the fix lets it rise


def check_tone(scene: Scene, figure: Figure) -> list[Finding]:
    """Groups whose tone sets in within a frame while they are physical: the spring of a joint that is off its keys by an angle a is there at once,
    with its k a^2 / 2.
    """
    found = []
    for g in figure.groups:
        rise = sudden_rise(scene, g)
        if rise is None:
            continue
        frame, low, high = rise
        text = (
            f"The tone of {g.name!r} rises from {low:.2g} to {high:.2g} within a frame, at frame {frame:g}: "
            "what is off its keys by then is thrown back to them at once, by the strength that the tone gives."
        )
        fix = partial(_eased, figure=figure.id, group=g.id, frame=frame)
        found.append(
            Finding(1, text, figure.id, frame=int(frame), fix_label=f"Over {ease_frames(scene):g} frames", fix=fix)
        )
    return found


def check_ruled(figure: Figure, assets: AssetStore) -> list[Finding]:
    """Groups that rule no body, so that nothing of them moves."""
    found = []
    for g in figure.groups:
        bones = figure.ruled(g)
        if g.muted or bones & figure.body_of.keys():
            continue
        first = min(bones, key=lambda b: figure.bone_index[b]) if bones else None
        text = f"{g.name!r} rules no body: none of its bones has one, so physics moves nothing of it."
        found.append(
            Finding(
                2, text, figure.id, first, fix_label="Give them bodies" if len(bones) > 1 else "Give it a body",
                work=partial(_with_bodies, bones=frozenset(bones), assets=assets),
            )
        )  # fmt: skip
    return found


def _with_bodies(
    figure: Figure, progress: Progress, cancelled: Cancelled, *, bones: frozenset[str], assets: AssetStore
) -> Figure:
    return add_bodies(figure, assets, set(bones), progress=progress, cancelled=cancelled)


def ease_frames(scene: Scene) -> float:
    """Frames over which a tone rises without a blow."""
    return float(max(round(EASE * scene.rate), 2))


def sudden_rise(scene: Scene, group: Group) -> tuple[float, float, float] | None:
    """The frame at which the tone of a group sets in suddenly while it is physical, and from what to what; None if it does not."""
    if group.muted or group.spring is not None or not group.tone.keys:
        return None
    frames = np.arange(scene.start, scene.end + 1, dtype=float)
    tone = group.tone.value(frames)
    # what has not been handed over by the frame before has not fallen anywhere
    free = np.minimum(group.acting(scene.rate).value(frames[:-1]), group.acting(scene.rate).value(frames[1:])) > 0.5
    rise = np.where(free, np.diff(tone), 0.0)
    if not rise.size or rise.max() < SUDDEN:
        return None
    k = int(rise.argmax())
    return float(frames[k]), float(tone[k]), float(tone[k + 1])


def _eased(scene: Scene, figure: str, group: str, frame: float) -> Scene:
    """A scene in which a group's tone takes its time from a frame on: the keys of the rise are those before it, and one later on."""
    found = next(g for g in scene.figure(figure).groups if g.id == group)
    over = ease_frames(scene)
    keys = found.tone.keys
    later = [k for k in keys if k.frame > frame + 1.0]
    end = min([frame + over, *(0.5 * (frame + k.frame) for k in later)])
    low, high = (float(found.tone.value(np.array([x]))[0]) for x in (frame, frame + 1.0))
    kept = [k for k in keys if k.frame < frame]
    made = [*kept, Key(frame=frame, value=low), Key(frame=max(end, frame + 1.0), value=high), *later]
    return edit.group(scene, figure, group, tone=Lane(keys=tuple(made), rest=found.tone.rest))
