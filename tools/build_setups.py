"""Builds the setups that come with the program: two legs from the deckhand, four legs from the goat, a chain."""

import math
from itertools import pairwise

from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Body, Bone, Figure, Joint, Scene, Shape
from artuline.core.setup.setups import take_setup
from artuline.demo.figures import ready_figure
from artuline.formats import setup_file
from artuline.formats.setup_file import READY, save_setup

LINKS, LENGTH = 12, 0.12


def chain():
    """A row of capsules, each bending by 40 degrees."""
    names = [f"link {i + 1}" for i in range(LINKS)]
    bones = tuple(
        Bone(name=n, parent=names[i - 1] if i else None, translation=(LENGTH if i else 0.0, 0.0, 0.0), deforms=True)
        for i, n in enumerate(names)
    )
    shape = Shape(kind="capsule", radius=0.03, half_length=LENGTH / 2 - 0.03, position=(LENGTH / 2, 0.0, 0.0))
    bodies = tuple(Body(id=n, bone=n, shapes=(shape,), density=1150.0) for n in names)
    bend = math.radians(40.0)
    joints = tuple(
        Joint(id=b, parent=a, child=b, swing_y=bend, swing_z=bend, twist=(-bend / 2, bend / 2))
        for a, b in pairwise(names)
    )
    return Figure(id="chain", name="chain", bones=bones, bodies=bodies, joints=joints)


def main():
    figures = (ready_figure("deckhand", AssetStore()), ready_figure("goat", AssetStore()), chain())
    folder = setup_file.SETUPS
    folder.mkdir(exist_ok=True)
    for name, figure in zip(READY, figures):
        setup = take_setup(Scene(figures=(figure,)), figure, name)
        save_setup(folder / f"{name.replace(' ', '_')}.artuset", setup)
        print(f"{name}: {len(setup.bodies)} bodies")


if __name__ == "__main__":
    main()
