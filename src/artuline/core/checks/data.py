"""Whether the large arrays that a scene refers to are there, and are what it refers to them as.

The same for a scene that is read, edited and saved: what one of them lets through, all do.
"""

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import partial

import numpy as np

from artuline.core.errors import ArtulineError
from artuline.core.motion.clip import Clip
from artuline.core.motion.skeleton import rest_matrices
from artuline.core.run.take import Take
from artuline.core.scene.arrays import Checked
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.figure import FARTHEST
from artuline.core.scene.mesh import Mesh
from artuline.core.scene.model import ClipRef, Figure, Layer, Scene, Soft, TakeRef

Data = AssetStore


@dataclass(frozen=True)
class Need:
    """What one thing of a scene needs. ``owner``: the figure, clip, layer, soft part or take; ``figure``: the figure's id, None for takes. ``keys``: of the
    arrays. ``about``: what besides the arrays decides whether they are right. ``check``: raises ArtulineError unless they are.
    """

    owner: Figure | ClipRef | Layer | Soft | TakeRef
    figure: str | None
    words: str
    keys: tuple[str, ...]
    about: object
    check: Callable[[Data], None]


def needs(scene: Scene, before: Scene | None = None) -> Iterator[Need]:
    """All that a scene needs, but for what it shares with the one ``before``."""
    old = {id(f) for f in before.figures} if before is not None else set()
    for f in scene.figures:
        if id(f) not in old:
            yield from _figure(f)
    known = set(before.takes) if before is not None else set()
    for t in scene.takes:
        if t not in known:
            keys = (t.asset, *filter(None, (t.scene,)), *t.steered)
            yield Need(t, None, f"the take {t.name!r}", keys, (t.scene, t.steered), partial(_take, t))


def check_data(scene: Scene, data: AssetStore, before: Scene | None = None) -> None:
    """Raises ArtulineError unless all that a scene needs is in a store, and is what it is needed as. ``before``: a scene that is known to be sound."""
    for need in needs(scene, before):
        check_need(need, data)
    if before is None:
        for f in scene.figures:
            _reaches(f, data)


def _reaches(f: Figure, data: Data) -> None:
    """Raises ArtulineError if a figure's skin reaches farther at rest than can be computed with."""
    if f.asset is None:
        return
    arrays = data[f.asset]
    palette = rest_matrices(f)[arrays["palette_bone"]] @ arrays["palette_bind"]
    far = np.abs(palette[:, :3, :3]).sum(axis=2).max(initial=0.0) * float(np.abs(arrays["positions"]).max(initial=0.0))
    if not far + np.abs(palette[:, :3, 3]).max(initial=0.0) < FARTHEST:
        raise ArtulineError(f"the skin of {f.name!r} lies too far away, or is scaled too much", remedy="Add its figure again.")  # fmt: skip


def check_need(need: Need, data: AssetStore) -> None:
    """Raises ArtulineError unless what one thing needs is in a store, and is right. Arrays that were found right are not looked at again."""
    for key in need.keys:
        if key not in data:
            raise ArtulineError(
                f"{need.words}: a part of its data is missing (assets/{key}.npz)", remedy="Add it again."
            )
    data.vet((need.keys, need.about), lambda: need.check(data))


def _figure(f: Figure) -> Iterator[Need]:
    bones, materials = tuple(f.bone_index), len(f.materials)
    meshes = tuple(filter(None, (f.asset, f.plain)))
    fleshy = tuple(i for i, b in enumerate(f.bones) if b.flesh is not None)
    if meshes or fleshy:
        about = (bones, materials, fleshy, f.asset, f.plain)
        yield Need(f, f.id, f"the figure {f.name!r}", meshes, about, partial(_skins, f, fleshy))
    for soft in f.softs:
        keys = (*filter(None, (soft.region, soft.root)), *meshes)
        yield Need(soft, f.id, f"the soft part {soft.id!r} of {f.name!r}", keys, (bones, soft, f.plain), partial(_soft, f, soft))  # fmt: skip
    for c in f.clips:
        words = f"the clip {c.name!r} of {f.name!r}"
        yield Need(c, f.id, words, (c.asset,), ("clip", bones), lambda d, c=c, w=words: Clip.check(d[c.asset], f.bone_index, w))  # type: ignore[misc]  # fmt: skip
    names = tuple(f.curve_names)
    for layer in f.layers:
        words = f"the layer {layer.name!r} of {f.name!r}"
        keys = tuple(dict.fromkeys((layer.asset, layer.baked or layer.asset)))
        yield Need(layer, f.id, words, keys, ("layer", names), partial(_layer, f, keys, words))
    if f.solids:
        solids = tuple(sorted(f.solids))
        yield Need(f, f.id, f"a shape of {f.name!r}", solids, "shapes", partial(_solids, f, solids))


def _skins(f: Figure, fleshy: tuple[int, ...], data: Data) -> None:
    if f.asset is not None:
        Mesh.check(data[f.asset], len(f.bones), len(f.materials), f"the skin of {f.name}")
    if f.plain is not None:
        Mesh.check(data[f.plain], len(f.bones), len(f.materials), f"the first skin of {f.name}")
        if f.asset is None or len(data[f.plain]["positions"]) != len(data[f.asset]["positions"]):
            raise ArtulineError(f"the skins of {f.name} are not of the same vertices", remedy="Add its figure again.")
    carried = data[f.asset]["palette_bone"] if f.asset is not None else ()
    for i in fleshy:
        if f.plain is None or i not in carried:
            raise ArtulineError(
                f"the added bone {f.bones[i].name} of {f.name} is bound to no skin", remedy="Add its figure again."
            )


def _soft(f: Figure, soft: Soft, data: Data) -> None:
    for key in filter(None, (soft.region, soft.root)):
        c = Checked(data[key], f"the soft part {soft.id} of {f.name}")
        c.take("on", (len(data[str(f.plain)]["positions"]),), "b")
    carried = data[f.asset]["palette_bone"] if f.asset is not None else ()
    if not all(f.bone_index[n] in carried for n in soft.clusters):
        raise ArtulineError(f"the soft part {soft.id} of {f.name} is bound to no skin", remedy="Add its figure again.")


def _layer(f: Figure, keys: tuple[str, ...], words: str, data: Data) -> None:
    for key in keys:
        Clip.check(data[key], f.curve_names, words)


def _solids(f: Figure, keys: tuple[str, ...], data: Data) -> None:
    for key in keys:
        c = Checked(data[key], f"a shape of {f.name}")
        vertices = c.take("vertices", ("V", 3), low=-1e6, high=1e6)
        c.take("triangles", ("T", 3), "i", low=0, high=len(vertices) - 1)


def _take(t: TakeRef, data: Data) -> None:
    Take.check(data[t.asset], t.name)
    if t.scene is not None:
        Checked(data[t.scene], f"the settings of {t.name}").take("scene", (None,), "i", low=0, high=255)
    if t.steered:
        Checked(data[t.steered[0]], f"the input of {t.name}").take("steered", (None,), "i", low=0, high=255)
