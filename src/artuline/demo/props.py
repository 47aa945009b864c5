"""Demo scenes in which things are held, handed over and thrown. Everything in them is made up."""

import numpy as np

from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.keyed import keyed_pose, root_at
from artuline.core.motion.poses import key_pose, reached, turned
from artuline.core.motion.skeleton import rigid, skeleton_of
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Figure, Lane, MotionKey, Scene, Shape, obstacle
from artuline.core.setup.grip import let_go, mounted, palm_of
from artuline.demo import things
from artuline.demo.figures import ready_figure

Turns = dict[str, tuple[float, float, float]]
Goals = dict[str, tuple[float, float, float]]
FEET = ("foot_l", "foot_r")


def deckhand(assets: AssetStore, clip: str, name: str = "deckhand", **values: object) -> Figure:
    """The deckhand with a clip that goes on."""
    figure = ready_figure("deckhand", assets).changed(id=name, name=name, clip=clip, **values)
    return figure.changed(clips=tuple(c.changed(loop=True) if c.name == clip else c for c in figure.clips))


def posed(
    scene: Scene,
    assets: AssetStore,
    figure: str,
    frame: int,
    goals: Goals,
    turns: Turns | None = None,
    sink: float = 0.0,
) -> Scene:
    """The scene with a pose keyed at a frame: the hips sunk (m) over the feet, bones turned (degrees about the world's axes), then the palms of
    hands brought to places.
    """
    f, at = scene.figure(figure), np.array([float(frame)])
    pose = keyed_pose(scene, assets, f, at, layers=False)
    root = root_at(scene, assets, f, at)[0]
    stands = dict(zip((b.name for b in f.bones), rigid(skeleton_of(f).global_matrices(pose.frame(0), root))[0]))
    bones = set()
    if sink:
        hips = f.bone_index["hips"]
        pose.translation[0, hips] = pose.translation[0, hips] - np.array([0.0, sink / f.unit, 0.0])
        bones.add("hips")
    for bone, degrees in (turns or {}).items():
        pose = turned(f, root, pose, bone, rotation.from_rotation_vector(np.radians(degrees)))
        bones.add(bone)
    wanted: dict[str, Array] = {b: stands[b] for b in FEET} if sink else {}
    wanted |= {b: np.array(g) for b, g in goals.items()}
    for bone, goal in wanted.items():
        if bone not in FEET:
            # the palm comes there, not the wrist
            facing = rigid(skeleton_of(f).global_matrices(pose.frame(0), root))[1][f.bone_index[bone]]
            goal = goal - rotation.rotate(facing, palm_of(f, bone).point)
        pose = reached(f, root, pose, bone, goal)
        bones |= set(f.limb_of(bone))
    return key_pose(scene, assets, figure, frame, pose, bones)


def pail(assets: AssetStore) -> Scene:
    """The deckhand carries a full pail across the deck by its bail; the arm that carries gives way."""
    figure = deckhand(assets, "walk", position=(0.0, 0.0, -2.2))
    scene = Scene(
        name="pail", rate=24.0, start=0, end=96, figures=(figure, things.pail(assets)), warm_up=48, warm_up_plays=True
    )
    # with ten kilograms in it an arm hangs
    hangs = keyed_pose(scene, assets, figure.changed(clip="stand"), np.array([0.0]), layers=False)
    for frame in (-80, 180):
        scene = key_pose(scene, assets, figure.id, frame, hangs, set(figure.limb_of("hand_r")))
    scene = edit.hand_over(scene, figure.id, "upper_arm_r", -100, 1000, 0, 0, tone=0.42)
    return mounted(scene, assets, "pail", figure.id, "hand_r", 0.0)


def passed(assets: AssetStore) -> Scene:
    """One deckhand hands the pail to another, who sets it down; then a swinging block knocks the first one over."""
    one = deckhand(assets, "stand")
    two = deckhand(assets, "stand", "mate", position=(0.0, 0.0, 0.84), turn=np.pi, clip_start=-31.0)
    keys = tuple(MotionKey(frame=f, position=p) for f, p in
                 ((0, (2.6, 1.35, -0.2)), (116, (2.6, 1.35, -0.2)), (134, (0.1, 1.3, -0.02)), (142, (-0.9, 1.4, 0.05))))  # fmt: skip
    half = float(np.sqrt(0.5))
    block = Shape(kind="capsule", radius=0.11, half_length=0.1, rotation=(0.0, 0.0, half, half))
    spar = obstacle("block", block, keys, color=(0.05, 0.055, 0.06), friction=0.4)
    scene = Scene(name="pass", rate=24.0, start=0, end=204, figures=(one, two, things.pail(assets, full=False), spar))
    meet = (-0.38, 1.0, 0.42)
    for frame, place in ((0, (-0.46, 0.84, 0.04)), (14, (-0.5, 0.86, 0.22)), (30, meet), (44, meet)):
        scene = posed(scene, assets, "deckhand", frame, {"hand_r": place}, {"spine": (9.0, 0.0, 0.0)})
    for frame in (34, 52):
        scene = posed(scene, assets, "mate", frame, {"hand_l": meet}, {"spine": (-11.0, 0.0, 0.0)})
    for frame in (80, 106):
        scene = posed(scene, assets, "mate", frame, {"hand_l": (-0.46, 0.402, 0.44)},
                      {"spine": (-34.0, 0.0, 0.0), "chest": (-22.0, 0.0, 0.0), "hand_l": (56.0, 0.0, 0.0)},
                      sink=0.36)  # fmt: skip
    scene = mounted(scene, assets, "pail", "deckhand", "hand_r", 0.0)
    scene = mounted(scene, assets, "pail", "mate", "hand_l", 42.0, as_it_lies=True)
    scene = let_go(scene, "pail", 104.0)
    return edit.hand_over(scene, "deckhand", None, 128, 400, 0, 0, tone=0.05)


def fender(assets: AssetStore) -> Scene:
    """A fender is swung by its lanyard and thrown over the side."""
    figure = deckhand(assets, "stand")
    rail = obstacle("rail", Shape(kind="box", half=(1.6, 0.04, 0.05)), (MotionKey(frame=0, position=(0.0, 0.78, 0.95)),),
                    color=(0.62, 0.62, 0.58))  # fmt: skip
    posts = tuple(
        obstacle(f"post {n}", Shape(kind="box", half=(0.05, 0.37, 0.05)), (MotionKey(frame=0, position=(x, 0.37, 0.95)),),
                 color=(0.62, 0.62, 0.58))
        for n, x in enumerate((-1.4, 0.0, 1.4), 1)
    )  # fmt: skip
    scene = Scene(
        name="fender", rate=24.0, start=0, end=96, figures=(figure, things.fender(assets), rail, *posts), warm_up=24
    )
    for frame, place, lean in (
        (12, (-0.42, 1.05, 0.10), 0.0), (24, (-0.46, 1.12, -0.42), -8.0), (32, (-0.40, 1.08, 0.30), 8.0),
        (43, (-0.46, 1.16, -0.48), -12.0), (51, (-0.36, 1.30, 0.48), 16.0), (60, (-0.34, 1.36, 0.50), 14.0),
    ):  # fmt: skip
        scene = posed(scene, assets, "deckhand", frame, {"hand_r": place}, {"spine": (lean, 0.0, 0.0)})
    scene = mounted(scene, assets, "fender", figure.id, "hand_r", 0.0, "palm", "line 4")
    made = scene.figure("fender")
    scene = edit.figure(scene, "fender", groups=tuple(g.changed(tone=Lane()) for g in made.groups))
    return let_go(scene, "fender", 51.0)
