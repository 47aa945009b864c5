"""Which figures something is done with, in words."""

from artuline.core.bake.delivery import Which, several
from artuline.core.scene.model import Figure, Scene


def figure_choices(scene: Scene, figure: Figure) -> dict[Which, str]:
    """Words for the figures that may be baked or leave with one: those that come to more than the ones before."""
    found: dict[Which, str] = {"this": f"{figure.name} alone"}
    most = 1
    ways: tuple[Which, ...] = ("held", "alike", "all")
    for which in ways:
        count = len(several(scene, figure.id, which))
        if count > most:
            most = count
            words = {"held": "with what it holds", "alike": f"all {count} alike", "all": f"all {count}"}
            if which == "held" and any(m.figure for m in figure.mounts):
                words["held"] = "with what holds it"
            found[which] = words[which]
    return found
