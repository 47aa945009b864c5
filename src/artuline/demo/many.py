"""Demo scene of many figures. Everything in it is made up."""

from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Ground, MotionKey, Rule, Scene, Shape, obstacle
from artuline.core.setup.many import Pattern, set_many
from artuline.demo.props import deckhand

HEIGHT = 1.1  # of what they stand on, m


def gangway(assets: AssetStore) -> Scene:
    """Thirty passengers wait on a gangway that is pulled away from under them, one row after the other."""
    man = deckhand(assets, "stand", position=(-1.0, HEIGHT, 4.3))
    plank = obstacle(
        "gangway", Shape(kind="box", half=(1.5, 0.05, 5.0)),
        tuple(MotionKey(frame=f, position=(0.0, HEIGHT - 0.05, z)) for f, z in ((0, 0.0), (20, 0.0), (68, -10.4), (74, -10.6))),
        color=(0.42, 0.33, 0.22), friction=0.4,
    )  # fmt: skip
    quay = obstacle("quay", Shape(kind="box", half=(3.0, 0.55, 1.0)), (MotionKey(frame=0, position=(0.0, 0.55, 6.1)),),
                    color=(0.45, 0.45, 0.42))  # fmt: skip
    scene = Scene(name="gangway", rate=24.0, start=0, end=144, figures=(man, plank, quay), ground=Ground(), substeps=18)
    scene = set_many(scene, man.id, Pattern(how="rows", count=29, columns=3, apart=1.0, turned=0.5, late=4.0, seed=3))
    rule = Rule(id="ground goes", name="what they stand on goes", figure=man.id, when="left", tone=0.05)
    return edit.scene(scene, rules=(rule,))
