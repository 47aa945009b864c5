"""Bones taken out of a figure again, with all that refers to them; the skin goes back to what carried it."""

import numpy as np

from artuline.core.errors import ArtulineError
from artuline.core.motion.clip import Clip
from artuline.core.motion.keyed import load_clip
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.mesh import Mesh
from artuline.core.scene.model import Figure, Scene
from artuline.core.setup.weights import without_entries


def rebound(figure: Figure, assets: AssetStore, changed: Figure, names: set[str]) -> tuple[Figure, set[str]]:
    """``changed`` without the bones ``names`` and their bodies, and its skin without their weights; curves and groups stay as they are. Also the ids of the bodies that went."""
    mesh, plain = (Mesh.from_arrays(assets[str(x)]) for x in (figure.asset, figure.plain))
    gone = [figure.bone_index[n] for n in names]
    bare = without_entries(mesh, plain, np.flatnonzero(np.isin(mesh.palette_bone, gone)))
    index = np.cumsum(~np.isin(np.arange(len(figure.bones)), gone)) - 1
    bare = Mesh(
        bare.positions, bare.normals, bare.triangles, bare.material, bare.slots, bare.weights, index[bare.palette_bone].astype(np.int32), bare.palette_bind, bare.palette_skin
    )  # fmt: skip
    ids = {figure.body_of[n].id for n in names if n in figure.body_of}
    last = not changed.softs and all(b.flesh is None or b.name in names for b in figure.bones)
    made = {
        "bones": tuple(b for b in changed.bones if b.name not in names),
        "asset": figure.plain if last else assets.add(bare.to_arrays()),
        "plain": None if last else figure.plain,
        "bodies": tuple(b for b in changed.bodies if b.id not in ids),
        "joints": tuple(j for j in changed.joints if not {j.parent, j.child} & ids),
        "loops": tuple(j for j in changed.loops if not {j.parent, j.child} & ids),
        "pairs_off": tuple(p for p in changed.pairs_off if not set(p) & ids),
        "groups": tuple(
            g.changed(bones=tuple(b for b in g.bones if b not in names), start_bone=None if g.start_bone in names else g.start_bone)
            for g in changed.groups if not (g.bones and set(g.bones) <= names) and g.start_bone not in names
        ),
        "mirror": tuple(m for m in changed.mirror if not set(m) & names),
        "elsewhere": tuple(e for e in changed.elsewhere if e[0] not in names),
    }  # fmt: skip
    return changed.changed(**made), ids


def without_bones(scene: Scene, assets: AssetStore, figure_id: str, what: tuple[Figure, set[str]]) -> Scene:
    """The scene in which a figure has lost bones, ``what``: the figure as it is otherwise, and their names; their curves and what refers to them go too.

    Raises ArtulineError if other bones hang on them, or a limb that is led has one of them.
    """
    figure, (changed, names) = scene.figure(figure_id), what
    hangs = [b for b in figure.bones if b.parent in names and b.name not in names]
    if hangs:
        raise ArtulineError(f"{hangs[0].name} hangs on {hangs[0].parent}", remedy=f"Remove {hangs[0].name} first.")
    led = next((n for x in figure.goals for n in x.bones if n in names), None)
    if led is not None:
        raise ArtulineError(f"{led} is a bone of a limb that is led", remedy="Take the limb away in Curves first.")

    def kept(asset: str) -> str:
        clip = load_clip(assets, asset)
        left = tuple(c for c in clip.channels if c.bone not in names)
        return asset if len(left) == len(clip.channels) else assets.add(Clip(left).to_arrays())

    made, _ = rebound(figure, assets, changed, names)
    made = made.changed(
        clips=tuple(c.changed(asset=kept(c.asset)) for c in made.clips),
        layers=tuple(x.changed(asset=kept(x.asset), baked=kept(x.baked) if x.baked else None) for x in made.layers),
    )
    return edit.pruned(scene, figures=edit.replace(scene.figures, figure_id, lambda f: made))
