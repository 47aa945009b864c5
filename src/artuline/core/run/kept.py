"""What was steered, kept: the last seconds as clips and a take, and the input from which the same comes again to the bit."""

import json
from collections import deque
from collections.abc import Callable
from typing import Any

import numpy as np

from artuline.core.errors import ArtulineError, CancelledError
from artuline.core.geometry import rotation
from artuline.core.geometry.curve import Channel
from artuline.core.geometry.rotation import Array
from artuline.core.motion.clip import Clip
from artuline.core.motion.keyed import root_at
from artuline.core.motion.places import own_root
from artuline.core.motion.skeleton import Pose, skeleton_of, under
from artuline.core.physics.state import ASKED, DONE
from artuline.core.run.record import keep_settings, settings_of
from artuline.core.run.shown import shown_pose
from artuline.core.run.steered import Steered
from artuline.core.run.take import Take
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.lanes import Lane
from artuline.core.scene.model import ClipRef, Figure, Group, Scene, Steering, TakeRef

LONGEST = 60.0  # s that are kept at most
OF_BODIES, OF_JOINTS = ("contact", "penetration", "into", "touch"), ("separation", "excess", "used")
MOST_ENTRIES = 1_000_000


class Watcher:
    """Looks at a steered world after every whole frame, and keeps the last seconds. A change of what there is begins anew."""

    def __init__(self, steered: Steered, seconds: float = LONGEST):
        self.steered = steered
        self.rows: deque[dict[str, Any]] = deque(maxlen=round(max(seconds, 1.0) * steered.scene.rate) + 1)
        self._built = steered.built
        steered.after = self.look

    def look(self) -> None:
        """Keep the world as it is now."""
        s = self.steered
        if self._built is not s.built:
            self.rows.clear()
            self._built = s.built
        world = s.built.world
        p, q = world.poses()
        row: dict[str, Any] = {
            "now": round(s.now),
            "p": p,
            "q": q,
            "handover": s.share.copy(),
            "kinetic": world.kinetic(),
        }
        row |= {n: world.bodies[n].copy() for n in OF_BODIES} | {n: world.joints[n].copy() for n in OF_JOINTS}
        row["led"] = {id_: (pilot.pose, pilot.shown_root) for id_, pilot in s.pilots.items()}
        self.rows.append(row)


class _Played:
    """The steered figures as they were on the frames that are kept."""

    def __init__(self, rows: list[dict[str, Any]]):
        ids = rows[0]["led"].keys()
        self.poses = {
            id_: Pose(
                *(
                    np.stack([getattr(r["led"][id_][0], part) for r in rows])
                    for part in ("translation", "rotation", "scale")
                )
            )
            for id_ in ids
        }
        self.roots = {id_: np.stack([r["led"][id_][1] for r in rows]) for id_ in ids}

    def pose(self, figure: Figure, frames: Array) -> Pose | None:
        """Its pose on all frames."""
        found = self.poses.get(figure.id)
        return found.copy() if found is not None else None

    def root(self, figure: Figure, frames: Array) -> Array | None:
        """Its root on all frames."""
        return self.roots.get(figure.id)


def kept(watcher: Watcher, seconds: float) -> tuple[Scene, Take]:
    """The scene over the last seconds with the steered motion as clips of its figures, and the take. Raises ArtulineError if there is nothing yet."""
    s = watcher.steered
    rows = list(watcher.rows)[-max(2, round(seconds * s.scene.rate) + 1) :]
    if len(rows) < 2:
        raise ArtulineError("nothing was steered yet", remedy="Steer for a second or more, then keep it.")
    frames = np.array([r["now"] for r in rows])
    built, lead, times = s.built, _Played(rows), frames.astype(float)
    scene = s.scene.changed(start=int(frames[0]), end=int(frames[-1]))
    p, q, handover = (np.stack([r[n] for r in rows]) for n in ("p", "q", "handover"))
    poses, roots, figures = {}, {}, []
    built.lead, old = lead, built.lead
    try:
        for part in built.parts:
            f, mine = part.figure, part.rows
            root, pose = root_at(scene, s.assets, f, times, built.pose, lead), built.pose(f, times)
            shown = pose
            if len(mine):
                shown = shown_pose(
                    f, root, pose, part.bones, p[:, mine], q[:, mine], handover[:, mine], built.shown[mine]
                )
            if f.id in lead.poses:
                own, skeleton = own_root(f, times), skeleton_of(f)
                shown, pose = under(skeleton, shown, root, own), under(skeleton, pose, root, own)
                f = _with_clip(f, s.assets, pose, times, scene.rate)
            elif f.mounts:
                roots[f.id] = root
            poses[f.id] = shown
            figures.append(f.changed(groups=tuple(_held(g, float(s.frame)) for g in f.groups)))
    finally:
        built.lead = old
    world = built.world
    report: dict[str, Any] = {n: np.stack([r[n] for r in rows]) for n in (*OF_BODIES, *OF_JOINTS)}
    take = Take(
        frames=frames, position=p, rotation=q, handover=handover, **report,
        kinetic=np.stack([r["kinetic"] for r in rows]), poses=poses, roots=roots, bodies=built.body_refs, joints=built.joint_refs,
        substeps=(int(world.counters[ASKED]), int(world.counters[DONE])), given=tuple(g.said(built) for g in s.rules.given.values()),
    )  # fmt: skip
    return scene.changed(figures=tuple(figures)), take


def _held(group: Group, frame: float) -> Group:
    """A group whose lanes stay as they are at a frame."""
    lanes = {n: Lane(rest=float(getattr(group, n).value(frame))) for n in ("handover", "tone", "steadiness", "calm")}
    return group.changed(**lanes)


def _with_clip(figure: Figure, assets: AssetStore, pose: Pose, frames: Array, rate: float) -> Figure:
    """A figure with a pose (F, B) at frames (F,) as the clip that plays."""
    seconds, rest, channels = (frames - frames[0]) / rate, skeleton_of(figure).rest, []
    for b, bone in enumerate(figure.bones):
        if np.abs(pose.translation[:, b] - rest.translation[b]).max() > 1e-9:
            channels.append(Channel(bone.name, "translation", "LINEAR", seconds, pose.translation[:, b].copy()))
        if rotation.angle_between(pose.rotation[:, b], rest.rotation[b]).max() > 1e-9:
            channels.append(
                Channel(bone.name, "rotation", "LINEAR", seconds, rotation.make_continuous(pose.rotation[:, b]))
            )
    name = edit.fresh_id("steered", {c.name for c in figure.clips})
    ref = ClipRef(
        name=name, asset=assets.add(Clip(tuple(channels)).to_arrays()), duration=float(seconds[-1]), rate=rate
    )
    return figure.changed(
        clips=(*figure.clips, ref), clip=name, clip_start=float(frames[0]), layers=tuple(x.changed(muted=True) for x in figure.layers)
    )  # fmt: skip


def keep(watcher: Watcher, scene: Scene, seconds: float) -> Scene:
    """A scene with the last seconds of what was steered as its clips and its current take, with the input kept beside. Raises ArtulineError."""
    s = watcher.steered
    made, take = kept(watcher, seconds)
    made = edit.scene(made, takes=scene.takes)
    number = len(scene.takes) + 1
    while f"steered {number}" in {t.id for t in scene.takes}:
        number += 1
    ref = TakeRef(
        id=f"steered {number}", name=f"steered {number}", asset=s.assets.add(take.to_arrays()), settings=made.settings_fingerprint(),
        start=int(take.frames[0]), end=int(take.frames[-1]), scene=keep_settings(made, s.assets), steered=_written(s, seconds),
    )  # fmt: skip
    return edit.scene(made, takes=(*scene.takes, ref), take=ref.id)


def _plain(value: Any, assets: AssetStore) -> Any:
    if isinstance(value, Scene):
        return {"scene": keep_settings(value, assets)}
    if isinstance(value, (frozenset, set)):
        return {"set": sorted(value)}
    if isinstance(value, np.ndarray):
        return value.tolist()
    if isinstance(value, np.generic):
        return value.item()
    if isinstance(value, tuple):
        return [_plain(v, assets) for v in value]
    return value


def _written(s: Steered, seconds: float) -> tuple[str, ...]:
    """What was done to a steered world from its beginning, as an asset, and all assets that it takes to do it again."""
    scenes = [s.began, *(a for _, _, args in s.journal or [] for a in args if isinstance(a, Scene))]
    needed = {x for scene in scenes for x in edit.scene(scene, takes=(), take=None).assets()} | {
        keep_settings(x, s.assets) for x in scenes
    }
    journal = [[step, name, [_plain(a, s.assets) for a in args]] for step, name, args in s.journal or []]
    about = {
        "scene": keep_settings(s.began, s.assets), "frame": float(s.frame), "steps": s.steps_done, "seconds": seconds, "journal": journal,
        "figures": {id_: how.model_dump() if how is not None else None for id_, how in s.began_with.items()},
    }  # fmt: skip
    return s.assets.add({"steered": np.frombuffer(json.dumps(about).encode(), np.uint8)}), *sorted(needed)


#: What may be done again from a file.
AGAIN = {
    "set_gravity",
    "set_ground",
    "push",
    "spin",
    "tug",
    "move_tug",
    "let_go",
    "steer",
    "turn_about",
    "knock",
    "knock_limb",
    "mirror",
    "change",
}


def again(
    ref: TakeRef,
    assets: AssetStore,
    progress: Callable[[int, int], None] = lambda done, total: None,
    cancelled: Callable[[], bool] = lambda: False,
) -> Watcher:
    """Steer once more as it was done for a take: the same to the bit. Raises ArtulineError if the input is not there or damaged, CancelledError."""
    if not ref.steered:
        raise ArtulineError(f"{ref.name} was not steered", remedy="Run the scene instead.")
    try:
        about = json.loads(bytes(assets[ref.steered[0]]["steered"]))
        scene, steps, journal = _scene(ref, about["scene"], assets), int(about["steps"]), list(about["journal"])
        figures = {str(k): Steering.model_validate(v) if v is not None else None for k, v in about["figures"].items()}
        frame, seconds = float(about["frame"]), float(about["seconds"])
        if (
            len(journal) > MOST_ENTRIES
            or not 0 <= steps <= 24 * 3600 * 240
            or any(name not in AGAIN for _, name, _ in journal)
        ):
            raise ValueError("not an input")
    except (KeyError, ValueError, TypeError, RecursionError) as error:
        raise ArtulineError(f"the input of {ref.name} is damaged", remedy="Steer again.") from error
    made = Steered(scene, assets, frame, figures)
    watcher, k = Watcher(made, max(seconds, 1.0)), 0
    for step in range(steps):
        if cancelled():
            raise CancelledError
        while k < len(journal) and journal[k][0] <= step:
            _do(made, ref, journal[k][1], journal[k][2])
            k += 1
        made.step()
        progress(step + 1, steps)
    return watcher


def same(watcher: Watcher, ref: TakeRef, assets: AssetStore) -> bool:
    """Whether what was steered again is what a take has, to the bit."""
    about = json.loads(bytes(assets[ref.steered[0]]["steered"]))
    _, made = kept(watcher, float(about["seconds"]))
    old = assets.decoded(ref.asset, Take.from_arrays)
    return all(
        np.array_equal(getattr(made, n), getattr(old, n))
        for n in ("frames", "position", "rotation", "handover", "contact", "kinetic")
    )


def _scene(ref: TakeRef, key: str, assets: AssetStore) -> Scene:
    return settings_of(ref.changed(scene=key), assets)


def _do(made: Steered, ref: TakeRef, name: str, args: list[Any]) -> None:
    values: list[Any] = []
    for a in args:
        if isinstance(a, dict) and "scene" in a:
            values.append(_scene(ref, a["scene"], made.assets))
        elif isinstance(a, dict) and "set" in a:
            values.append(frozenset(a["set"]))
        else:
            values.append(a)
    getattr(made, name)(*values)
