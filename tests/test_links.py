"""Links in the document: ties, welds and pins that grip without a jump and let go at a frame."""

import numpy as np
import pytest
from pydantic import ValidationError

from artuline.core.checks.reach import check_reach
from artuline.core.run.build import build
from artuline.core.run.record import run
from artuline.core.run.tryout import Tryout
from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Body, BodyRef, Bone, Figure, Link, LinkEnd, MotionKey, Scene, Shape, obstacle
from artuline.core.setup.passing import Passing, let_pass, let_touch, passing
from artuline.formats.scene_file import load_scene, save_scene

BALL = Shape(kind="sphere", radius=0.1)


def two_balls(*links, frames=48, around=()):
    """Two balls of their own, side by side in the air, let go at frame 0."""
    bones = tuple(Bone(name=n, translation=(x, 2.0, 0.0), deforms=True) for n, x in (("left", -0.5), ("right", 0.5)))
    bodies = tuple(Body(id=b.name, bone=b.name, shapes=(BALL,)) for b in bones)
    figure = Figure(id="floats", name="floats", bones=bones, bodies=bodies)
    scene = Scene(figures=(figure, *around), end=frames, ground=None, links=links)
    return edit.hand_over(scene, "floats", None, 0, 10 * frames, 0, 0)


def end(body, **more):
    return LinkEnd(figure="floats", body=body, **more)


def heights(scene):
    take = run(scene, AssetStore())
    return take, take.position[..., 1]


def test_a_pin_to_the_world_holds_from_frame_to_frame():
    pin = Link(id="pin", name="pin", a=end("left"), start=12, stop=24)
    take, y = heights(two_balls(pin))
    fall = y[:, 1]
    # it falls, hangs where it was caught, and falls again from rest
    np.testing.assert_allclose(y[:12, 0], fall[:12], atol=1e-9)
    assert np.ptp(y[14:25, 0]) < 1e-3 and y[20, 0] == pytest.approx(fall[12], abs=2e-3)
    drop = y[24, 0] - y[36, 0]
    assert drop == pytest.approx(9.81 * 0.5 * 0.25, rel=0.03)
    assert take.joints == ((None, "pin"),) and take.separation.max() < 1e-3


def test_a_pin_to_a_moving_thing_is_carried_and_leaves_with_its_speed():
    keys = tuple(MotionKey(frame=12 * k, position=(-0.5 + 0.5 * k, 2.5, 0.0)) for k in range(6))
    yard = obstacle("yard", Shape(kind="box", half=(0.05, 0.05, 0.05)), keys)
    hold = Link(id="h", name="h", a=end("left"), b=LinkEnd(figure="yard", body="yard"), start=0, stop=36)
    take, _ = heights(two_balls(hold, frames=60, around=(yard,)))
    x = take.position[:, 0, 0]
    away = take.position[:37, 0] - take.position[:37, 2]
    assert np.abs(away - away[0]).max() < 1e-3
    speed = np.diff(x) * 24.0
    assert speed[40] == pytest.approx(speed[34], rel=0.05) and speed[34] > 0.8


def test_a_weld_makes_one_body_of_two():
    weld = Link(id="w", name="w", kind="weld", a=end("right"), b=end("left"))
    pin = Link(id="p", name="p", a=end("left"))
    take, _ = heights(two_balls(weld, pin))
    apart = np.linalg.norm(take.position[:, 1] - take.position[:, 0], axis=1)
    np.testing.assert_allclose(apart, 1.0, atol=1e-3)
    assert take.position[:, 1, 1].min() < 1.2


def test_a_tie_is_slack_then_taut():
    tie = Link(id="t", name="t", kind="tie", a=end("right"), b=end("left"), lengths=(0.0, 1.2))
    pin = Link(id="p", name="p", a=end("left"))
    take, _ = heights(two_balls(tie, pin, frames=60))
    apart = np.linalg.norm(take.position[:, 1] - take.position[:, 0], axis=1)
    assert apart[0] == pytest.approx(1.0) and apart.max() == pytest.approx(1.2, abs=2e-3)
    soft = tie.changed(frequency=1.5)
    given = run(two_balls(soft, pin, frames=60), AssetStore())
    assert np.linalg.norm(given.position[:, 1] - given.position[:, 0], axis=1).max() > 1.25


def test_links_are_saved_and_change_the_fingerprint(tmp_path):
    pin = Link(id="pin", name="pin", a=end("left"))
    scene, assets = two_balls(pin), AssetStore()
    save_scene(tmp_path / "a.artuline", scene, assets)
    assert load_scene(tmp_path / "a.artuline", AssetStore()) == scene
    assert scene.settings_fingerprint() != two_balls().settings_fingerprint()
    named = scene.changed(links=(pin.changed(name="other"),))
    assert named.settings_fingerprint() == scene.settings_fingerprint()


def test_the_tryout_holds_what_is_held_at_its_frame():
    scene = two_balls(Link(id="pin", name="pin", a=end("left"), stop=30))
    for frame, falls in ((0.0, False), (40.0, True)):
        tryout = Tryout(scene, AssetStore(), frame)
        for _ in range(24):
            tryout.step()
        left, right = (tryout.matrices()[0][i, 1, 3] for i in (0, 1))
        assert (left < 1.5) == falls and right < 1.5


@pytest.mark.parametrize(
    "make, words",
    [
        (lambda: two_balls(Link(id="x", name="x", a=end("middle"))), "middle"),
        (lambda: two_balls(Link(id="x", name="x", a=end("left"), b=LinkEnd(figure="yard", body="mast"))), "mast"),
        (lambda: Link(id="x", name="x", kind="tie", a=end("left"), lengths=(2.0, 1.0)), "short to long"),
        (lambda: two_balls(*[Link(id="x", name="x", a=end("left"))] * 2), "more than one link"),
    ],
)
def test_a_link_to_nothing_cannot_be_built(make, words):
    with pytest.raises(ValidationError, match=words):
        make()


def test_an_obstacle_stands_until_a_group_hands_it_over():
    """Alone it hangs on its keys, in a run and in a tryout; handed over it falls as any body, with the mass of its volume."""
    crate = obstacle("crate", Shape(kind="box", half=(0.1, 0.2, 0.1)), (MotionKey(frame=0, position=(0.0, 3.0, 0.0)),))
    scene = edit.add_figure(two_balls(frames=12), crate)
    still = run(scene, AssetStore())
    c = still.column("crate", "crate")
    np.testing.assert_array_equal(still.position[:, c], [(0.0, 3.0, 0.0)] * 13)
    falls = edit.hand_over(scene, "crate", None, 0, 99, 0, 0)
    built = build(falls, AssetStore())
    assert built.world.bodies["mass"][c] == pytest.approx(1000.0 * 0.2 * 0.4 * 0.2)
    y = run(falls, AssetStore()).position[-1, c, 1]
    assert y == pytest.approx(3.0 - 0.5 * 9.81 * 0.5**2, rel=1e-3)
    for made, stands in ((scene, True), (falls, False)):
        live = Tryout(made, AssetStore(), 0.0)
        for figure in range(len(made.figures)):
            live.hold(figure, frozenset())
        for _ in range(12):
            live.step()
        assert (live.matrices()[-1][0, 1, 3] > 2.999) == stands


def test_what_passes_is_known_whatever_makes_it_and_can_be_changed():
    """Pairs of a figure, of two, of holds and mounts: listed from both sides; set and taken back again the scene is what it was."""
    names = ("quay", "buoy", "boom")
    ball = Shape(kind="sphere", radius=0.1)
    scene = Scene(figures=tuple(obstacle(n, ball, ()) for n in names))
    quay, buoy, boom = (BodyRef(n, n) for n in names)
    made = let_pass(scene, [(quay, buoy), (buoy, quay), (buoy, boom)])
    assert len(made.pairs_off) == 2 and let_pass(made, [(buoy, quay)]) == made
    assert {frozenset((p.a, p.b)) for p in passing(made, "buoy")} == {frozenset((quay, buoy)), frozenset((buoy, boom))}
    assert all(p.a == quay for p in passing(made, "quay"))
    assert let_touch(made, [(quay, buoy), (boom, buoy)]) == scene
    hold = Link(
        id="h", name="a hold", kind="weld", a=LinkEnd(figure="boom", body="boom"), b=LinkEnd(figure="quay", body="quay")
    )
    held = edit.scene(scene, links=(hold, hold.changed(id="t", kind="tie", lengths=(0.0, 1.0))))
    assert passing(held, "quay") == [Passing(quay, boom, "a hold")]


@pytest.mark.parametrize("kind", ["pin", "weld"])
@pytest.mark.parametrize("rate, substeps", [(24.0, 10), (60.0, 2)])
def test_a_hold_that_begins_while_both_are_on_their_keys_goes_along_until_one_is_handed_over(kind, rate, substeps):
    """The keys go on for fifteen frames after the hold began, by 0.6 m: it holds where the ball is let go, and does not pull it back."""
    keys = (MotionKey(frame=0, position=(0.0, 2.0, 0.0)), MotionKey(frame=40, position=(1.6, 2.0, 0.0)))
    ball = obstacle("buoy", BALL, keys)
    hold = Link(id="h", name="h", kind=kind, a=LinkEnd(figure="buoy", body="buoy"), start=5.0)
    scene = Scene(figures=(ball,), end=40, rate=rate, substeps=substeps, ground=None, links=(hold,))
    scene = edit.hand_over(scene, "buoy", None, 20.0, 90.0, 0.0, 0.0)
    assert not check_reach(scene, AssetStore())
    take = run(scene, AssetStore())
    x = take.position[:, 0, 0]
    assert x[20] > x[5] + 0.4
    assert np.abs(x[21:] - x[20]).max() < 2e-3 and not take.held
