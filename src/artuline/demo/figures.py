"""The shipped figures, with bodies and joints fitted once."""

from pathlib import Path

from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Figure
from artuline.core.setup.materials import balance, usual_mass
from artuline.core.setup.ragdoll import set_up
from artuline.formats.gltf_read import read_clips, read_figure

DATA = Path(__file__).parent / "data"

_fitted: dict[str, Figure] = {}


def ready_figure(name: str, assets: AssetStore) -> Figure:
    """A shipped figure with bodies and joints, and with the mass that is usual for its size. Fitted once."""
    figure = read_figure(DATA / f"{name}.glb", assets).figure
    if name not in _fitted:
        made = set_up(figure, assets)
        total, _ = usual_mass(made, assets)
        _fitted[name] = made.changed(bodies=balance(made, total)[0])
    made = _fitted[name]
    return figure.changed(bodies=made.bodies, joints=made.joints, pairs_off=made.pairs_off)


def with_clips(figure: Figure, assets: AssetStore, file: str) -> Figure:
    """A figure with the clips of another shipped file of the same skeleton besides its own."""
    return read_clips(DATA / f"{file}.glb", assets, figure)
