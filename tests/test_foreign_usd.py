"""USD files of others, made by its own library: where every bone is in the world, at frames and between, against the library's own evaluation."""

import numpy as np
import pytest
from pxr import Gf, Sdf, Usd, UsdGeom, UsdSkel

from artuline.core.errors import ArtulineError, CancelledError
from artuline.core.motion.keyed import keyed_matrices
from artuline.core.motion.skeleton import placement, rest_matrices, skeleton_of
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.mesh import Mesh
from artuline.core.scene.model import Scene
from artuline.formats.apart import read_apart
from artuline.formats.usd_read import read_figure, read_here

JOINTS = ["hull", "hull/mast", "hull/mast/yard", "hull/mast/yard/flag"]
IDENTITY = Gf.Matrix4d(1.0)


class Ship:
    """A stage with one skinned skeleton, whose prims and numbers a feature may change."""

    def __init__(self, path, unit=1.0, up="y", tcps=24.0, fps=24.0, codes=(0, 12, 24), scale=1.0):
        self.path = path
        self.stage = s = Usd.Stage.CreateNew(str(path))
        UsdGeom.SetStageMetersPerUnit(s, unit)
        UsdGeom.SetStageUpAxis(s, UsdGeom.Tokens.y if up == "y" else UsdGeom.Tokens.z)
        s.SetTimeCodesPerSecond(tcps)
        if fps:
            s.SetFramesPerSecond(fps)
        self.world = UsdGeom.Xform.Define(s, "/world")
        self.root = UsdSkel.Root.Define(s, "/world/ship")
        self.skel = UsdSkel.Skeleton.Define(s, "/world/ship/rig/bones")
        UsdGeom.Xform.Define(s, "/world/ship/rig")
        along = Gf.Vec3d(0, 1, 0) if up == "y" else Gf.Vec3d(0, 0, 1)
        local = [IDENTITY, *[Gf.Matrix4d(1.0).SetTranslate(along * h * scale) for h in (0.9, 0.5, 0.4)]]
        binds, at = [], IDENTITY
        for m in local:
            at = m * at
            binds.append(at)
        self.skel.CreateJointsAttr(JOINTS)
        self.skel.CreateRestTransformsAttr(local)
        self.skel.CreateBindTransformsAttr(binds)
        self.anim = UsdSkel.Animation.Define(s, "/world/ship/rig/bones/wind")
        self.anim.CreateJointsAttr(JOINTS)
        self.anim.CreateTranslationsAttr([Gf.Vec3f(m.ExtractTranslation()) for m in local])
        self.anim.CreateScalesAttr([Gf.Vec3h(1, 1, 1)] * 4)
        turns = self.anim.CreateRotationsAttr()
        for k, code in enumerate(codes):
            q = [Gf.Quatf(Gf.Rotation(Gf.Vec3d(1, 0.3 * j, 0.2), 25.0 * k * (j + 1) % 70).GetQuat()) for j in range(4)]
            turns.Set(q, code)
        binding = UsdSkel.BindingAPI.Apply(self.skel.GetPrim())
        binding.CreateAnimationSourceRel().SetTargets([self.anim.GetPath()])
        mesh = self.mesh = UsdGeom.Mesh.Define(s, "/world/ship/sail")
        points = [
            Gf.Vec3f(along * h * scale) + Gf.Vec3f(x * scale, 0, 0) for h in (0.0, 0.9, 1.4, 1.8) for x in (-0.1, 0.1)
        ]
        mesh.CreatePointsAttr(points)
        mesh.CreateFaceVertexCountsAttr([4, 4, 4])
        mesh.CreateFaceVertexIndicesAttr([0, 1, 3, 2, 2, 3, 5, 4, 4, 5, 7, 6])
        skin = UsdSkel.BindingAPI.Apply(mesh.GetPrim())
        skin.CreateJointIndicesPrimvar(False, 1).Set([0, 0, 1, 1, 2, 2, 3, 3])
        skin.CreateJointWeightsPrimvar(False, 1).Set([1.0] * 8)
        skin.CreateSkeletonRel().SetTargets([self.skel.GetPath()])

    def save(self):
        self.stage.Save()
        return self.path


def truth(path, codes):
    """World matrices (F, B, 4, 4) in metres, y upwards, of the first skeleton by the library's own queries."""
    stage = Usd.Stage.Open(str(path))
    inside = Usd.TraverseInstanceProxies()
    skel = next(UsdSkel.Skeleton(p) for p in Usd.PrimRange.Stage(stage, inside) if p.IsA(UsdSkel.Skeleton))
    cache = UsdSkel.Cache()
    cache.Populate(UsdSkel.Root.Find(skel.GetPrim()), inside)
    query = cache.GetSkelQuery(skel)
    unit = UsdGeom.GetStageMetersPerUnit(stage)
    up = np.eye(4)
    if UsdGeom.GetStageUpAxis(stage) == UsdGeom.Tokens.z:
        up[:3, :3] = [[1, 0, 0], [0, 0, 1], [0, -1, 0]]
    found = []
    for code in codes:
        carried = np.array(UsdGeom.Xformable(skel.GetPrim()).ComputeLocalToWorldTransform(code)).T
        local = np.array(query.ComputeJointSkelTransforms(code)).transpose(0, 2, 1)
        found.append(up @ carried @ local)
    found = np.array(found)
    found[..., :3, :] *= unit
    return found


def turned(x, *angles):
    x.AddRotateXYZOp().Set(Gf.Vec3f(*angles))


def moved_root(s):
    op = s.root.AddTranslateOp()
    for code, x in ((0, 0.0), (24, 0.9)):
        op.Set(Gf.Vec3d(x, 0.1 * x, 0), code)


def whole_turn(s):
    op = s.root.AddRotateYOp()
    op.Set(0.0, 0)
    op.Set(360.0, 24)


def uneven(s):
    s.root.AddScaleOp().Set(Gf.Vec3f(1.0, 2.0, 0.5))


def below(s):
    x = UsdGeom.Xformable(s.stage.GetPrimAtPath("/world/ship/rig"))
    x.AddTranslateOp().Set(Gf.Vec3d(0.3, 1.0, -0.2))
    turned(x, 10, 20, 30)


def stack_reset(s):
    turned(s.world, 40, 0, 0)
    s.skel.AddTranslateOp().Set(Gf.Vec3d(0, 0, 2))
    s.skel.SetResetXformStack(True)


def growing(s):
    op = s.world.AddScaleOp()
    op.Set(Gf.Vec3f(1, 1, 1), 0)
    op.Set(Gf.Vec3f(2, 2, 2), 24)


def binds_only(s):
    s.skel.GetRestTransformsAttr().Clear()


def mirrored(s):
    s.world.AddScaleOp().Set(Gf.Vec3f(-1, 1, 1))


FEATURES = {
    "plain": ({}, lambda s: None),
    "root moves": ({}, moved_root),
    "root goes round": ({}, whole_turn),
    "below the root": ({}, below),
    "tilted root": ({}, lambda s: turned(s.root, 50, 0, 20)),
    "z upwards, turned": ({"up": "z"}, lambda s: turned(s.root, 0, 0, 70)),
    "z upwards, tilted and moved": ({"up": "z"}, lambda s: (turned(s.world, 30, 0, 70), moved_root(s))),
    "uneven scale": ({}, uneven),
    "growing": ({}, growing),
    "mirrored": ({}, mirrored),
    "stack reset": ({}, stack_reset),
    "centimetres": ({"unit": 0.01, "scale": 100.0}, lambda s: turned(s.root, 0, 45, 0)),
    "time codes": ({"tcps": 240.0, "fps": 24.0, "codes": (0, 120, 240)}, moved_root),
    "no frames stated": ({"tcps": 48.0, "fps": None, "codes": (0, 24, 48)}, lambda s: None),
    "poses far apart": ({"tcps": 1.0, "fps": None, "codes": (0, 1, 2)}, lambda s: None),
    "only binds": ({}, binds_only),
}


def compared(path, codes, figure, assets, tcps, first=0.0):
    """The farthest, m, and the widest, degrees, that a bone is from where the library has it."""
    rate = figure.active_clip().rate
    frames = (np.asarray(codes) - first) / tcps * rate
    m = keyed_matrices(Scene(figures=(figure,), rate=rate, end=100), assets, figure, frames)[:, -len(JOINTS) :]
    true = truth(path, codes)
    off = float(np.abs(m[..., :3, 3] - true[..., :3, 3]).max())
    # the columns, as long as they are
    size = np.abs(true[..., :3, :3]).max()
    turn = float(np.abs(m[..., :3, :3] - true[..., :3, :3]).max() / size)
    return off, np.degrees(turn)


@pytest.mark.parametrize("feature", FEATURES)
def test_bones_are_where_the_library_has_them(tmp_path, feature):
    values, change = FEATURES[feature]
    ship = Ship(tmp_path / "a.usda", **values)
    change(ship)
    path = ship.save()
    imported, made = read_here(path)
    assets = AssetStore()
    for key, arrays in made.items():
        assets.put(key, arrays)
    f = imported.figure
    tcps = ship.stage.GetTimeCodesPerSecond()
    end = max(ship.anim.GetRotationsAttr().GetTimeSamples())
    codes = np.linspace(0, end, 97)
    off, turn = compared(path, codes, f, assets, tcps)
    assert off < 1e-5 and turn < 0.01, (off, turn)
    assert f.active_clip().rate == (48.0 if tcps == 48.0 else 24.0)
    # the skin too, at rest
    mesh = assets.decoded(f.asset, Mesh.from_arrays)
    shown = mesh.skin(rest_matrices(f))
    rest = skeleton_of(f).global_matrices(skeleton_of(f).rest, placement(f))[-len(JOINTS) :, :3, 3]
    assert (
        np.abs(shown[2:4].mean(axis=0) - rest[1]).max() < 1e-5
        and np.abs(shown[6:8].mean(axis=0) - rest[3]).max() < 1e-5
    )
    if feature == "uneven scale":
        assert any("scaled unevenly" in n for n in imported.notes)
    if feature == "poses far apart":
        assert any("24 frames a second" in n for n in imported.notes)


def test_instances_and_references_beside_the_file_are_read(tmp_path):
    (tmp_path / "parts").mkdir()
    ship = Ship(tmp_path / "parts" / "ship.usda")
    turned(ship.root, 0, 30, 0)
    ship.save()
    top = Usd.Stage.CreateNew(str(tmp_path / "quay.usda"))
    UsdGeom.SetStageMetersPerUnit(top, 1.0)
    UsdGeom.SetStageUpAxis(top, UsdGeom.Tokens.y)
    top.SetTimeCodesPerSecond(24)
    top.SetFramesPerSecond(24)
    berth = UsdGeom.Xform.Define(top, "/berth")
    berth.AddTranslateOp().Set(Gf.Vec3d(4, 0, 1))
    prim = berth.GetPrim()
    prim.GetReferences().AddReference("./parts/ship.usda", "/world")
    prim.SetInstanceable(True)
    top.Save()
    path = tmp_path / "quay.usda"
    imported, made = read_here(path)
    assets = AssetStore()
    for key, arrays in made.items():
        assets.put(key, arrays)
    off, turn = compared(path, np.linspace(0, 24, 97), imported.figure, assets, 24.0)
    assert off < 1e-5 and turn < 0.01 and imported.figure.asset is not None


@pytest.mark.parametrize("kind", ["absolute", "above", "linked", "sublayer", "payload", "clips", "address"])
def test_nothing_outside_of_the_folder_is_read(tmp_path, kind):
    outside = Ship(tmp_path / "outside.usda").save()
    (tmp_path / "in").mkdir()
    path = tmp_path / "in" / "a.usda"
    top = Usd.Stage.CreateNew(str(path))
    prim = top.DefinePrim("/berth", "Xform")
    address = {"absolute": str(outside), "address": "https://example.invalid/a.usda", "linked": "./link.usda"}.get(
        kind, "../outside.usda"
    )
    (tmp_path / "in" / "link.usda").symlink_to(outside)
    if kind == "sublayer":
        top.GetRootLayer().subLayerPaths.append(address)
    elif kind == "payload":
        prim.GetPayloads().AddPayload(address, "/world")
    elif kind == "clips":
        api = Usd.ClipsAPI(prim)
        api.SetClips({"default": {"assetPaths": Sdf.AssetPathArray([Sdf.AssetPath(address)]), "primPath": "/world"}})
    else:
        prim.GetReferences().AddReference(address, "/world")
    top.GetRootLayer().Save()
    with pytest.raises(ArtulineError, match="does not lie beside the file"):
        read_here(path)


def endless(path):
    while True:
        pass


def greedy(path):
    return len(bytearray(8 * 2**30))


def dies(path):
    import os

    os.abort()


def test_a_reader_that_runs_away_is_stopped(tmp_path, monkeypatch):
    from artuline.formats import apart

    path = tmp_path / "a.usda"
    path.write_text("no")
    monkeypatch.setattr(apart, "SECONDS", 6)
    for read, words in ((endless, "more than 6 s"), (greedy, "more memory"), (dies, "made its reader end")):
        with pytest.raises(ArtulineError, match=words) as caught:
            read_apart(read, path)
        assert str(path) in str(caught.value)
    with pytest.raises(CancelledError):
        read_apart(endless, path, lambda: True)
    with pytest.raises(ArtulineError, match="no USD"):
        read_figure(path, AssetStore())
