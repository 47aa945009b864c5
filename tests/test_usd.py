"""USD out and in: poses and skin on every frame, the library's own validation, physics by its schema."""

import numpy as np
import pytest
from pxr import Gf, Usd, UsdGeom, UsdPhysics, UsdSkel, UsdValidation

from artuline.core.bake.bake import BakeWish, add_layer, bake_figure
from artuline.core.errors import ArtulineError
from artuline.core.geometry import rotation
from artuline.core.motion.keyed import keyed_pose, root_at
from artuline.core.motion.skeleton import rigid, skeleton_of
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.mesh import Mesh
from artuline.core.scene.model import Scene
from artuline.core.setup.materials import body_mass
from artuline.demo.figures import ready_figure
from artuline.demo.scenes import demo_scene
from artuline.formats.deliver import deliver
from artuline.formats.importing import add_figure
from artuline.formats.joint_kinds import ranges_of
from artuline.formats.usd_read import read_figure


def matrices(scene, assets, figure, frames):
    pose, root = keyed_pose(scene, assets, figure, frames), root_at(scene, assets, figure, frames)
    return skeleton_of(figure).global_matrices(pose, root)


def valid(path):
    found = UsdValidation.ValidationContext(UsdValidation.ValidationRegistry().GetOrLoadAllValidators()).Validate(
        Usd.Stage.Open(str(path))
    )
    assert not found, [(e.GetName(), e.GetMessage()) for e in found]


@pytest.mark.parametrize("suffix", [".usda", ".usdc"])
def test_every_pose_and_the_skin_come_back(boom_run, tmp_path, suffix):
    scene, assets, take = boom_run
    f = scene.figures[0]
    scene = add_layer(scene, assets, f.id, bake_figure(scene, assets, f, take, BakeWish(1.0, 10.0)), "baked")
    f = scene.figures[0]
    (path,) = deliver(tmp_path / f"a{suffix}", scene, assets, [f.id])
    valid(path)
    back = read_figure(path, assets).figure
    frames = np.arange(scene.start, scene.end + 1.0)
    then, now = (
        matrices(scene, assets, f, frames),
        matrices(Scene(figures=(back,), end=scene.end), assets, back, frames),
    )
    assert np.abs(then[..., :3, 3] - now[..., :3, 3]).max() < 1e-5
    assert (
        np.degrees(
            rotation.angle_between(rigid(then[::7].reshape(-1, 4, 4))[1], rigid(now[::7].reshape(-1, 4, 4))[1])
        ).max()
        < 0.01
    )
    one, two = (assets.decoded(x.asset, Mesh.from_arrays) for x in (f, back))
    np.testing.assert_allclose(one.skin(then[90]), two.skin(now[90]), atol=2e-5)
    # the library's own reader agrees on joints in the world
    stage = Usd.Stage.Open(str(path))
    root = next(UsdSkel.Root(p) for p in stage.Traverse() if p.IsA(UsdSkel.Root))
    skel = next(UsdSkel.Skeleton(p) for p in stage.Traverse() if p.IsA(UsdSkel.Skeleton))
    cache = UsdSkel.Cache()
    cache.Populate(root, Usd.PrimDefaultPredicate)
    place = np.array(UsdGeom.Xformable(root.GetPrim()).ComputeLocalToWorldTransform(100.0)).T
    seen = np.array(cache.GetSkelQuery(skel).ComputeJointSkelTransforms(100.0)).transpose(0, 2, 1)
    np.testing.assert_allclose((place @ seen)[:, :3, 3], then[100, :, :3, 3], atol=1e-5)
    assert stage.GetEndTimeCode() == scene.end and stage.GetTimeCodesPerSecond() == scene.rate
    added, figure, _ = add_figure(Scene(), AssetStore(), path)
    assert (added.rate, added.end) == (24.0, scene.end) and figure.asset


def test_bodies_joints_and_limits_by_the_schema(tmp_path):
    assets = AssetStore()
    figure = ready_figure("goat", assets)
    (path,) = deliver(tmp_path / "g.usda", Scene(figures=(figure,), end=2), assets, [figure.id], physics=True)
    valid(path)
    stage = Usd.Stage.Open(str(path))
    bodies = {p.GetName(): p for p in stage.Traverse() if p.HasAPI(UsdPhysics.RigidBodyAPI)}
    assert len(bodies) == len(figure.bodies)
    assert sum(p.HasAPI(UsdPhysics.CollisionAPI) for p in stage.Traverse()) == sum(len(b.shapes) for b in figure.bodies)
    for b in figure.bodies:
        assert UsdPhysics.MassAPI(bodies[b.bone]).GetMassAttr().Get() == pytest.approx(body_mass(b), rel=1e-5)
    joints = [UsdPhysics.Joint(p) for p in stage.Traverse() if p.IsA(UsdPhysics.Joint)]
    assert len(joints) == len(figure.joints)
    bone = {b.id: b.bone for b in figure.bodies}
    by = {j.GetBody1Rel().GetTargets()[0].name: j for j in joints}
    cache = UsdGeom.XformCache()
    for j in figure.joints:
        made = by[bone[j.child]]
        assert made.GetBody0Rel().GetTargets()[0].name == bone[j.parent]
        # both seats are at one place
        ends = []
        for rel, p in (
            (made.GetBody0Rel(), made.GetLocalPos0Attr()),
            (made.GetBody1Rel(), made.GetLocalPos1Attr()),
        ):
            m = cache.GetLocalToWorldTransform(stage.GetPrimAtPath(rel.GetTargets()[0]))
            ends.append(m.Transform(Gf.Vec3d(p.Get())))
        np.testing.assert_allclose(ends[0], ends[1], atol=1e-5)
        if j.kind == "ball" and j.limited:
            limit = UsdPhysics.LimitAPI(made.GetPrim(), "rotY")
            assert limit.GetHighAttr().Get() == pytest.approx(np.degrees(j.swing_y), abs=1e-3)
        assert UsdPhysics.LimitAPI(made.GetPrim(), "transX").GetLowAttr().Get() == 1.0


def test_what_is_held_leaves_in_metres_with_its_holder(tmp_path):
    assets = AssetStore()
    scene = demo_scene("pail", assets).changed(end=20)
    (path,) = deliver(tmp_path / "p.usdc", scene, assets, [f.id for f in scene.cast], True)
    valid(path)
    stage = Usd.Stage.Open(str(path))
    assert UsdGeom.GetStageMetersPerUnit(stage) == 1.0 and sum(p.IsA(UsdSkel.Root) for p in stage.Traverse()) == len(
        scene.cast
    )


def small(path, change=lambda text: text):
    text = """#usda 1.0
(
    upAxis = "Z"
    metersPerUnit = 0.01
    timeCodesPerSecond = 30
)
def SkelRoot "mast"
{
    def Skeleton "skel" (prepend apiSchemas = ["SkelBindingAPI"])
    {
        uniform token[] joints = ["a", "a/b"]
        uniform matrix4d[] bindTransforms = [((1,0,0,0),(0,1,0,0),(0,0,1,0),(0,0,0,1)), ((1,0,0,0),(0,1,0,0),(0,0,1,0),(0,0,90,1))]
        uniform matrix4d[] restTransforms = [((1,0,0,0),(0,1,0,0),(0,0,1,0),(0,0,0,1)), ((1,0,0,0),(0,1,0,0),(0,0,1,0),(0,0,90,1))]
        rel skel:animationSource = </mast/skel/anim>
        def SkelAnimation "anim"
        {
            uniform token[] joints = ["a", "a/b"]
            float3[] translations.timeSamples = { 0: [(0,0,0),(0,0,90)], 30: [(10,0,0),(0,0,90)] }
            quatf[] rotations = [(1,0,0,0),(1,0,0,0)]
            half3[] scales = [(1,1,1),(1,1,1)]
        }
    }
    def Mesh "skin" (prepend apiSchemas = ["SkelBindingAPI"])
    {
        int[] faceVertexCounts = [4]
        int[] faceVertexIndices = [0, 1, 2, 3]
        point3f[] points = [(-10,0,0),(10,0,0),(10,0,90),(-10,0,90)]
        int[] primvars:skel:jointIndices = [0,0,1,1] (elementSize = 1; interpolation = "vertex")
        float[] primvars:skel:jointWeights = [1,1,1,1] (elementSize = 1; interpolation = "vertex")
        rel skel:skeleton = </mast/skel>
    }
}
"""
    path.write_text(change(text))
    return path


def test_a_file_of_others_with_z_upwards_in_centimetres(tmp_path):
    assets = AssetStore()
    found = read_figure(small(tmp_path / "m.usda"), assets)
    f = found.figure
    assert (
        f.unit == pytest.approx(0.01) and any("z is upwards" in n for n in found.notes) and f.active_clip().rate == 30.0
    )
    m = matrices(Scene(figures=(f,), rate=30.0, end=30), assets, f, np.array([0.0, 30.0]))
    np.testing.assert_allclose(m[:, 1, :3, 3], [[0, 0.9, 0], [0.1, 0.9, 0]], atol=1e-6)
    skin = assets.decoded(f.asset, Mesh.from_arrays)
    assert len(skin.triangles) == 2
    np.testing.assert_allclose(skin.skin(m[1])[2], [0.2, 0.9, 0.0], atol=1e-6)


@pytest.mark.parametrize(
    "change, words",
    [
        (lambda t: "no", "no USD that can be read"),
        (lambda t: t.replace('"a/b"', '"c/b"', 1), ""),
        (lambda t: t.replace('def Skeleton "skel"', 'def Scope "skel"'), "no skeleton"),
        (lambda t: t.replace("[0, 1, 2, 3]", "[0, 1, 2, 9]"), "points that it does not have"),
        (lambda t: t.replace("jointIndices = [0,0,1,1]", "jointIndices = [0,0,1,7]"), "joints that there are not"),
        (lambda t: t.replace("(0,0,90,1))]", "(0,0,nan,1))]"), "cannot be used"),
        (lambda t: t.replace("(0,0,90)]", "(0,0,inf)]", 1), "cannot be used"),
    ],
)
def test_what_cannot_be_used_is_said(tmp_path, change, words):
    assets = AssetStore()
    try:
        read_figure(small(tmp_path / "m.usda", change), assets)
    except ArtulineError as error:
        assert words in str(error) and "m.usda" in str(error) and not len(assets)
    else:
        assert not words


def test_a_setup_that_went_out_comes_in_again(tmp_path):
    """Shapes, masses, joints, limits and springs of places, in single precision; and it falls as before."""
    assets = AssetStore()
    figure = ready_figure("deckhand", assets)
    springy = tuple(
        j.changed(kind="axes", axes=((-0.01, 0.02), (0.0, 0.0), None, (-0.4, 0.5), (-0.2, 0.3), None), spring_frequency=3.0, spring_ratio=0.2)
        if j.child == "hand_l" else j for j in figure.joints
    )  # fmt: skip
    figure = figure.changed(
        joints=springy, unit=0.01 * figure.unit, bones=tuple(_larger(b, 100.0) for b in figure.bones), asset=None
    )
    (path,) = deliver(tmp_path / "g.usdc", Scene(figures=(figure,), end=2), assets, [figure.id], physics=True)
    valid(path)
    back = read_figure(path, assets).figure
    assert [b.bone for b in back.bodies] == [b.bone for b in figure.bodies]
    for one, two in zip(figure.bodies, back.bodies):
        assert body_mass(two) == pytest.approx(body_mass(one), rel=1e-5)
        for a, b in zip(one.shapes, two.shapes, strict=True):
            assert a.kind == b.kind and b.radius == pytest.approx(a.radius, rel=1e-5)
            assert b.half_length == pytest.approx(a.half_length, rel=1e-5) or a.kind != "capsule"
            np.testing.assert_allclose(b.position, a.position, atol=1e-6)
            if a.kind == "hull":
                np.testing.assert_allclose(np.sort(b.points, axis=0), np.sort(a.points, axis=0), atol=1e-6)
    of = {j.child: j for j in back.joints}
    for j in figure.joints:
        child = next(b.bone for b in figure.bodies if b.id == j.child)
        now = of[child]
        assert now.kind == j.kind
        for axis, (a, b) in enumerate(zip(ranges_of(j), ranges_of(now), strict=True)):
            assert (a is None) == (b is None), (child, axis)
            np.testing.assert_allclose(a or 0.0, b or 0.0, atol=1e-6)
        assert abs(float(np.dot(now.frame, j.frame))) == pytest.approx(1.0, abs=1e-6)
    hand = of["hand_l"]
    assert hand.spring_frequency == pytest.approx(3.0, rel=1e-5) and hand.spring_ratio == pytest.approx(0.2, rel=1e-5)


def _larger(bone, by):
    return bone.changed(translation=tuple(by * x for x in bone.translation))


def test_bodies_that_others_wrote(tmp_path):
    """Plain kinds of joints, a shape along z, a material, a body on no bone, a drive of a force; with axes and units of the schema."""
    path = tmp_path / "other.usda"
    stage = Usd.Stage.CreateNew(str(path))
    UsdGeom.SetStageMetersPerUnit(stage, 1.0)
    UsdGeom.SetStageUpAxis(stage, UsdGeom.Tokens.y)
    UsdSkel.Root.Define(stage, "/mast")
    skel = UsdSkel.Skeleton.Define(stage, "/mast/bones")
    skel.CreateJointsAttr(["foot", "foot/boom"])
    places = [Gf.Matrix4d(1.0), Gf.Matrix4d(1.0).SetTranslateOnly(Gf.Vec3d(0.0, 2.0, 0.0))]
    skel.CreateRestTransformsAttr(places)
    skel.CreateBindTransformsAttr(places)
    for name, height, mass in (("foot", 0.0, 40.0), ("spar", 2.0, 8.0), ("gull", 9.0, 1.0)):
        prim = UsdGeom.Xform.Define(stage, f"/mast/{name}")
        prim.AddTranslateOp().Set(Gf.Vec3d(0.0, height, 0.0))
        UsdPhysics.RigidBodyAPI.Apply(prim.GetPrim())
        UsdPhysics.MassAPI.Apply(prim.GetPrim()).CreateMassAttr(mass)
        shape = UsdGeom.Capsule.Define(stage, f"/mast/{name}/shape")
        shape.CreateAxisAttr("Z")
        shape.CreateRadiusAttr(0.1)
        shape.CreateHeightAttr(1.6)
        UsdPhysics.CollisionAPI.Apply(shape.GetPrim())
    joint = UsdPhysics.RevoluteJoint.Define(stage, "/mast/joint")
    joint.CreateBody0Rel().SetTargets(["/mast/foot"])
    joint.CreateBody1Rel().SetTargets(["/mast/spar"])
    joint.CreateLocalPos0Attr(Gf.Vec3f(0.0, 2.0, 0.0))
    joint.CreateAxisAttr("X")
    joint.CreateLowerLimitAttr(-30.0)
    joint.CreateUpperLimitAttr(45.0)
    drive = UsdPhysics.DriveAPI.Apply(joint.GetPrim(), "angular")
    drive.CreateStiffnessAttr(5.0)
    stage.GetRootLayer().Save()
    imported = read_figure(path, AssetStore())
    figure = imported.figure
    assert [(b.bone, b.mass) for b in figure.bodies] == [("foot", 40.0), ("boom", 8.0)]
    (shape,) = figure.body_of["boom"].shapes
    assert shape.kind == "capsule" and (shape.radius, shape.half_length) == pytest.approx((0.1, 0.8))
    along = rotation.rotate(np.array(shape.rotation), np.array([1.0, 0.0, 0.0]))
    np.testing.assert_allclose(np.abs(along), [0.0, 0.0, 1.0], atol=1e-9)
    (joint_,) = figure.joints
    assert joint_.kind == "hinge" and joint_.twist == pytest.approx(np.radians((-30.0, 45.0)))
    assert any("gull" in n for n in imported.notes)
