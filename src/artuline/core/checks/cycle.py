"""Whether a range that is to go round can."""

from artuline.core.checks.finding import Finding, Fix
from artuline.core.run.cycle import opened
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Figure, Scene

WHOLE = 1e-3  # of a frame, by which a round may miss whole ones


def check_cycle(scene: Scene, assets: AssetStore) -> list[Finding]:
    """What keeps the range of a closed loop from ending as it begins."""
    if not scene.cycle or scene.end <= scene.start:
        return []
    found = []
    for gap in opened(scene, assets):
        figure = next((f for f in scene.figures if f.id == gap.figure), None)
        frames = _round_of(scene, figure) if figure is not None else None
        text = f"No closed loop: {gap.text}."
        if figure is not None and frames is None and (clip := figure.active_clip()) is not None and clip.loop:
            text += f" A round of {clip.name} takes {clip.duration * scene.rate:.2f} frames, not whole ones."
        if frames is not None and gap.bone is not None and (scene.end - scene.start) % frames:
            end = scene.start + max(1, round((scene.end - scene.start) / frames)) * frames
            more = (("Not a closed loop", _off),)
            label, fix = f"End at frame {end}", _to(end)
            found.append(Finding(3, text, gap.figure, gap.bone, scene.end, label, fix, more))
        else:
            found.append(Finding(3, text, gap.figure, gap.bone, scene.end, "Not a closed loop", _off))
    return found


def _off(scene: Scene) -> Scene:
    return edit.scene(scene, cycle=False)


def _to(end: int) -> Fix:
    return lambda s: edit.scene(s, end=end)


def _round_of(scene: Scene, figure: Figure) -> int | None:
    """Frames that a round of a figure's clip takes; None where it does not loop, or takes no whole number of them."""
    clip = figure.active_clip()
    if clip is None or not clip.loop:
        return None
    frames = clip.duration * scene.rate
    return round(frames) if abs(frames - round(frames)) < WHOLE and round(frames) > 0 else None
