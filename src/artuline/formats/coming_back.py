"""Files whose keys can come back onto a figure as a layer: tables of keys, glTF and BVH."""

from pathlib import Path

from artuline.core.bake.coming_back import come_back
from artuline.core.errors import ArtulineError
from artuline.core.motion.keyed import load_clip
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Scene
from artuline.formats import bvh_names, bvh_read, gltf_read, key_table

SUFFIXES = (*key_table.FORMAT.suffixes, *gltf_read.FORMAT.suffixes, bvh_names.SUFFIX)


def bring_back(scene: Scene, assets: AssetStore, figure_id: str, path: Path) -> tuple[Scene, tuple[str, ...]]:
    """The scene with the keys of a file as the topmost layer of a figure, by the names of its bones; and the names of bones that it does not have.

    Raises ArtulineError; then nothing was added.
    """
    suffix, staged = path.suffix.lower(), AssetStore()
    if suffix in key_table.FORMAT.suffixes:
        clip = key_table.read_keys(path)
    elif suffix in gltf_read.FORMAT.suffixes:
        read = gltf_read.read_figure(path, staged).figure
        ref = read.active_clip()
        if ref is None:
            raise ArtulineError("the file has no animation", place=str(path), remedy="Choose one with keys.")
        clip = load_clip(staged, ref.asset)
    elif suffix == bvh_names.SUFFIX:
        onto = bvh_read.put_motion(scene, staged, figure_id, path)
        moved = onto.scene.figure(figure_id).active_clip()
        assert moved is not None
        clip = load_clip(staged, moved.asset)
    else:
        raise ArtulineError(
            f"{path.name} has no keys that can be read", remedy=f"Choose one of: {', '.join(SUFFIXES)}."
        )
    return come_back(scene, assets, figure_id, clip, path.stem)
