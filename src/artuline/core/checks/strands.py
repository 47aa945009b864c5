"""Strands: what nothing holds, what begins under a skin, and a skin that nothing carries."""

import numpy as np

from artuline.core.checks.finding import Finding
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Figure, Scene, Strand
from artuline.core.setup.laid import laid, parts_inside
from artuline.core.setup.strand import remade
from artuline.core.setup.strand_kinds import nearest_bone


def check_strand(scene: Scene, f: Figure, assets: AssetStore) -> list[Finding]:
    """Everything about a strand."""
    recipe, found = f.made, []
    assert recipe is not None
    holds = f.mounts or any(f.id in (x.a.figure, x.b.figure if x.b else "") for x in scene.links)
    if not holds and f.enters is None and not recipe.closed:

        def hold(s: Scene) -> Scene:
            now = s.figure(f.id).made
            assert now is not None
            first = now.points[0]
            bone = nearest_bone(s, assets, np.array(first.position), now.frame, f.id)
            if bone is None:
                new = first.changed(hold="pinned")
            else:
                new = first.changed(hold="mounted", figure=bone[0], bone=bone[1])
            return remade(s, assets, f.id, now.changed(points=(new, *now.points[1:])))

        text = f"Nothing holds {f.name}: it falls."
        found.append(Finding(1, text, f.id, f.bones[0].name, fix_label="Hold its first point", fix=hold))
    for skin in scene.cast:
        if not skin.skin or skin.asset is None or not skin.bodies:
            continue
        # what begins there comes up in a warm-up, or the take says how deep it is
        inside = parts_inside(scene, assets, f, skin) if scene.warm_up == 0 else []
        if inside:
            text = f"{len(inside)} parts of {f.name} begin inside of {skin.name}, {inside[0]} first: they would stay in there."
            found.append(Finding(2, text, f.id, inside[0], fix_label="Lay it on the skin", fix=_lay(assets, f.id)))
    return found


def _lay(assets: AssetStore, figure: str):  # type: ignore[no-untyped-def]
    def change(s: Scene) -> Scene:
        now = s.figure(figure).made
        assert now is not None
        return remade(s, assets, figure, on_skin(s, assets, now))

    return change


def on_skin(scene: Scene, assets: AssetStore, strand: Strand) -> Strand:
    """The recipe with its line laid on the skins that it runs through."""
    points = laid(
        scene, assets, strand.points, strand.frame, 1.1 * strand.reach, closed=strand.closed, curved=strand.curved
    )
    return strand.changed(points=points)
