"""Things that are held: what would jump into the hand, hang in the air, or be held by nothing that physics knows."""

import numpy as np

from artuline.core.checks.finding import Finding, Fix
from artuline.core.geometry import rotation
from artuline.core.motion.keyed import keyed_matrices
from artuline.core.motion.skeleton import rigid
from artuline.core.run.build import group_of
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Figure, Lane, MotionKey, Mount, Scene
from artuline.core.setup.grip import as_it_is

FAR = 0.06  # metres that a thing may move into the hand at once


def check_mounts(scene: Scene, f: Figure, assets: AssetStore) -> list[Finding]:
    """Everything about what a figure rides on."""
    found = []
    for m in f.mounts:
        holder = scene.figure(m.figure)
        hand = m.reach or m.bone
        if holder.carrier(m.bone) is None and _free(scene, f, m.part):
            text = f"{f.name} hangs on {holder.name}, which has no bodies: its {m.part} stays on the keys."
            found.append(Finding(1, text, f.id, m.part))
        if m.start is not None and m.start > scene.start and not _free(scene, f, m.part):
            found += _jump(scene, f, assets, m, holder, hand)
        if m.stop is not None and m.stop < scene.end and not _led_after(f, m) and not _free(scene, f, m.part):
            text = f"{f.name} is let go at frame {m.stop:g}, but not handed over: it hangs in the air from then on."
            found.append(Finding(2, text, f.id, m.part, fix_label="Let it fall", fix=_fall(f.id, m.stop)))
        elif (
            m.stop is not None
            and scene.start < m.stop < scene.end
            and not _free(scene, f, m.part)
            and not any(o.acts(m.stop) for o in f.mounts)
        ):
            found += _jump_off(scene, f, assets, m)
    return found


def _free(scene: Scene, f: Figure, part: str) -> bool:
    """Whether a group or a rule ever hands a part over."""
    group = group_of(f, part)
    return scene.ruled(f) or (
        group is not None
        and (group.handover.rest > 0.0 if not group.handover.keys else any(k.value > 0 for k in group.handover.keys))
    )


def _led_after(f: Figure, m: Mount) -> bool:
    """Whether something moves the thing on when a mount ends."""
    return bool(f.track.frames) or any(o.id != m.id and (o.stop is None or o.stop > (m.stop or 0.0)) for o in f.mounts)


def _away(scene: Scene, f: Figure, assets: AssetStore, m: Mount, frame: float) -> float:
    """How far its keys take what a mount holds from just before a frame to it, m."""
    p, q = rigid(keyed_matrices(scene, assets, f, np.array([frame - 0.01, frame]))[:, f.bone_index[m.part]])
    grip = p + rotation.rotate(q, np.broadcast_to(m.point, p.shape))
    return float(np.linalg.norm(grip[1] - grip[0]))


def _jump_off(scene: Scene, f: Figure, assets: AssetStore, m: Mount) -> list[Finding]:
    """A thing that is elsewhere as soon as it is let go."""
    assert m.stop is not None
    stop, away = m.stop, _away(scene, f, assets, m, m.stop)
    if away < FAR:
        return []
    text = f"{f.name} is let go at frame {stop:g}, {100 * away:.0f} cm from where its own keys have it: it jumps there."
    if not f.is_its_root:
        return [Finding(2, text, f.id, m.part, int(stop), fix_label="Let it fall", fix=_fall(f.id, stop))]

    def stays(s: Scene) -> Scene:
        now = s.figure(f.id)
        p, q = rigid(keyed_matrices(s, assets, now, np.array([stop - 0.01]))[:, now.bone_index[m.part]])
        place, turn = (tuple(float(v) for v in x[0]) for x in (p, q))
        # from there it goes on to its next key, if it has one
        return edit.motion_key(s, f.id, MotionKey(frame=stop, position=place, rotation=turn))

    return [
        Finding(
            2, text, f.id, m.part, int(stop), fix_label="Key it where it is let go", fix=stays,
            more=(("Let it fall", _fall(f.id, stop)),),
        )
    ]  # fmt: skip


def _jump(scene: Scene, f: Figure, assets: AssetStore, m: Mount, holder: Figure, hand: str) -> list[Finding]:
    """A thing that is elsewhere just before it is held."""
    assert m.start is not None
    away = _away(scene, f, assets, m, m.start)
    if away < FAR:
        return []

    def as_it_lies(s: Scene) -> Scene:
        now = s.figure(f.id)
        before = edit.figure(s, f.id, mounts=tuple(x for x in now.mounts if x.id != m.id))
        at = as_it_is(before, assets, before.figure(f.id), m.part, s.figure(m.figure), m.bone, m.start or 0.0)
        held = m.changed(position=tuple(at[0]), rotation=tuple(at[1]))
        return edit.figure(s, f.id, mounts=edit.replace(now.mounts, m.id, lambda _: held))

    text = f"{f.name} is {100 * away:.0f} cm from {hand} when it is taken up at frame {m.start:g}: it jumps into it."
    return [Finding(2, text, f.id, m.part, int(m.start), fix_label="Take it up as it lies", fix=as_it_lies)]


def _fall(figure: str, frame: float) -> Fix:
    def change(s: Scene) -> Scene:
        made = edit.hand_over(s, figure, None, frame, s.end + 1000.0, 0.0, 0.0)
        g = next(g for g in made.figure(figure).groups if g.begins_at(None))
        return edit.group(made, figure, g.id, tone=Lane())

    return change
