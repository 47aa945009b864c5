"""glTF files of others, written by a library of its own: where every node is at frames and between, against an evaluation by the standard's formulas written here."""

import base64
import json

import numpy as np
import pygltflib as g
import pytest

from artuline.core.motion.keyed import keyed_matrices
from artuline.core.motion.skeleton import rest_matrices
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.mesh import Mesh
from artuline.core.scene.model import Scene
from artuline.formats.gltf_read import read_figure
from artuline.formats.importing import put_figure
from tests.foreign import Writer, turn

LINKS = ("deck", "mast", "yard", "flag")


class Ship:
    """Four nodes in a row, a skin on them, and a clip; what a feature says is different."""

    def __init__(self, feature):
        self.w, self.feature, self.notes = Writer(), feature, []
        size = 100.0 if feature == "centimetres" else 1.0
        self.heights = size * np.array([0.0, 0.8, 1.3, 1.7])
        doc = self.w.doc
        for k, name in enumerate(LINKS):
            step = self.heights[k] - (self.heights[k - 1] if k else 0.0)
            node = g.Node(name=name, translation=[0.0, float(step), 0.0], children=[k + 1] if k < 3 else [])
            doc.nodes.append(node)
        if feature == "matrices":
            m = np.eye(4)
            m[:3, :3] = matrix([0.1, 0.2, 0.3, 0.9])
            m[:3, 3] = [0.1, 0.5, 0.0]
            doc.nodes[2] = g.Node(name="yard", matrix=m.T.reshape(-1).tolist(), children=[3])
        if feature == "uneven scale":
            doc.nodes[1].scale = [1.0, 2.0, 0.5]
        if feature == "mirrored node":
            doc.nodes[1].scale = [-1.0, 1.0, 1.0]
        if feature == "repeated names":
            doc.nodes[3].name = "yard"
        if feature == "no names":
            for node in doc.nodes:
                node.name = None
        roots = [0]
        if feature in ("scaffold", "turned scaffold"):
            doc.nodes.append(g.Node(name="scaffold", scale=[0.01] * 3, children=[0]))
            for node in doc.nodes[:4]:
                node.translation = [100.0 * x for x in node.translation]
            self.heights *= 100.0
            if feature == "turned scaffold":
                doc.nodes[4].rotation = turn((1, 0, 0), -90)
            roots = [4]
        if feature == "camera and light":
            doc.cameras = [g.Camera(type="perspective", perspective=g.Perspective(yfov=1.0, znear=0.1))]
            doc.nodes.append(g.Node(name="eye", camera=0, translation=[0, 1, 5]))
            roots.append(len(doc.nodes) - 1)
        self._mesh(roots)
        doc.scenes[0].nodes = roots
        self._clip()

    def _mesh(self, roots):
        f, w, doc = self.feature, self.w, self.w.doc
        heights = self.heights / (100.0 if "scaffold" in f else 1.0)
        width = 0.1 * heights[3]
        points = np.array([[x * width, h, 0.0] for h in heights for x in (-1.0, 1.0)])
        joints = np.repeat(np.arange(4), 2)
        faces = np.array([[0, 1, 3], [0, 3, 2], [2, 3, 5], [2, 5, 4], [4, 5, 7], [4, 7, 6]])
        mode, indices = 4, faces.reshape(-1)
        if f == "strip":
            mode, indices = 5, np.arange(8)
        elif f == "fan":
            mode, indices = 6, np.array([0, 1, 3, 5, 7, 6, 4, 2])
        if f == "not indexed":
            points, joints, indices = points[indices], joints[indices], None
        self.points, self.joints = points, joints
        binds = np.tile(np.eye(4), (4, 1, 1))
        for k in range(4):
            binds[k] = np.linalg.inv(self.rest()[k])
        slots = np.zeros((len(points), 4), np.uint16 if f == "wide joints" else np.uint8)
        slots[:, 0] = joints
        weights = np.zeros((len(points), 4), np.float32)
        weights[:, 0] = 1.0
        more = {}
        stored = points.astype(np.float32)
        # in the frame of the skin, as the standard has it: the binds undo the rest
        if f == "quantized":
            most = np.abs(points).max()
            stored = np.round(points / most * 32767).astype(np.int16)
            binds = binds @ np.diag([most, most, most, 1.0])
            self.w.doc.extensionsUsed = self.w.doc.extensionsRequired = ["KHR_mesh_quantization"]
            # rows of four bytes
            padded = np.zeros((len(points), 4), np.int16)
            padded[:, :3] = stored
            position = w.accessor(padded, "VEC4", 5122)
            doc.bufferViews[-1].byteStride = 8
            doc.accessors[position].type, doc.accessors[position].normalized = "VEC3", True
        elif f == "sparse":
            position = w.accessor(np.zeros_like(stored), "VEC3")
            rows, values = np.arange(len(points), dtype=np.uint16), stored
            w.accessor(rows, "SCALAR", 5123)
            w.accessor(values, "VEC3")
            views = len(doc.bufferViews)
            del doc.accessors[-2:]
            doc.accessors[position].sparse = g.Sparse(
                count=len(points),
                indices=g.AccessorSparseIndices(bufferView=views - 2, componentType=5123),
                values=g.AccessorSparseValues(bufferView=views - 1),
            )
        elif f == "interleaved":
            rows = np.zeros((len(points), 6), np.float32)
            rows[:, :3] = stored
            position = w.accessor(rows, "VEC4")
            doc.bufferViews[-1].byteStride = 24
            doc.accessors[position].type = "VEC3"
            doc.accessors[position].min = doc.accessors[position].max = None
        else:
            position = w.accessor(stored, "VEC3")
        shares, component, norm = weights, 5126, {}
        if f in ("bytes", "shorts"):
            most, kind, component = (255, np.uint8, 5121) if f == "bytes" else (65535, np.uint16, 5123)
            shares, norm = (weights * most).astype(kind), {"normalized": True}
        attributes = {
            "POSITION": position,
            "JOINTS_0": w.accessor(slots, "VEC4", 5123 if f == "wide joints" else 5121),
            "WEIGHTS_0": w.accessor(shares, "VEC4", component, **norm),
        }
        if f == "eight weights":
            half = weights.copy()
            half[:, 0] = 0.5
            attributes["WEIGHTS_0"] = w.accessor(half, "VEC4")
            attributes["JOINTS_1"], attributes["WEIGHTS_1"] = w.accessor(slots, "VEC4", 5121), w.accessor(half, "VEC4")
        if indices is not None:
            more["indices"] = w.accessor(indices.astype(np.uint16), "SCALAR", 5123)
        if f != "no mesh":
            doc.meshes = [
                g.Mesh(name="sail", primitives=[g.Primitive(attributes=g.Attributes(**attributes), mode=mode, **more)])
            ]
        bind = w.accessor(binds.astype(np.float32).transpose(0, 2, 1).reshape(-1, 16), "MAT4")
        doc.skins = [g.Skin(name="skin", joints=[0, 1, 2, 3], inverseBindMatrices=bind)]
        if f == "no binds":
            doc.skins[0].inverseBindMatrices = None
        if f == "idle skin":
            doc.skins.append(g.Skin(name="spare", joints=[1, 2]))
        if f != "no mesh":
            doc.nodes.append(g.Node(name="sail", mesh=0, skin=0))
            roots.append(len(doc.nodes) - 1)
        if f == "two meshes":
            doc.nodes.append(g.Node(name="sail again", mesh=0, skin=0))
            roots.append(len(doc.nodes) - 1)
        if f == "rigid mesh":
            doc.meshes.append(
                g.Mesh(primitives=[g.Primitive(attributes=g.Attributes(POSITION=position), indices=more["indices"])])
            )
            doc.nodes[3].mesh = 1

    def _clip(self):
        f, w = self.feature, self.w
        times = {
            "thirty": np.arange(31) / 30, "film": np.arange(24) / 23.976, "far apart": np.arange(3.0), "odd times": np.array([0.0, 0.3717, 0.6133, 1.0]),
            "halves": np.arange(9) * 0.5, "later": 0.5 + np.arange(13) / 24, "milliseconds": np.round(np.arange(31) / 30, 3), "one key": np.zeros(1),
        }.get(f, np.arange(25) / 24).astype(np.float32)  # fmt: skip
        self.times = times.astype(float)
        n = len(times)
        animation = g.Animation(name="sway", channels=[], samplers=[])
        rng = np.random.default_rng(3)
        stamps = w.accessor(times, "SCALAR")
        self.curves = {}
        kinds = {"STEP": "STEP", "CUBICSPLINE": "CUBICSPLINE"}
        kind = kinds.get(f, "LINEAR")
        for k in (1, 3) if f == "matrices" else (1, 2, 3):
            angles = 40 * np.sin(3 * self.times + k)
            q = np.array([turn((0.6, 0.0, 0.8), a) for a in angles])
            component, norm = 5126, {}
            if f in ("short turns", "byte turns"):
                most, type_, component = (32767, np.int16, 5122) if f == "short turns" else (127, np.int8, 5120)
                stored, norm = np.round(q * most).astype(type_), {"normalized": True}
                q = stored / most
            elif kind == "CUBICSPLINE":
                q = np.concatenate([rng.normal(size=(n, 1, 4)), q[:, None], rng.normal(size=(n, 1, 4))], axis=1)
                stored = q.astype(np.float32).reshape(-1, 4)
            else:
                stored = q.astype(np.float32)
            out = w.accessor(stored, "VEC4", component, **norm)
            self._channel(animation, k, "rotation", stamps, out, kind, q)
        if f == "moving":
            p = np.cumsum(rng.normal(size=(n, 3)), axis=0) * 0.05
            self._channel(animation, 0, "translation", stamps, w.accessor(p.astype(np.float32), "VEC3"), "LINEAR", p)
        if f == "growing":
            s = 1.0 + 0.5 * rng.random((n, 3))
            self._channel(animation, 1, "scale", stamps, w.accessor(s.astype(np.float32), "VEC3"), "LINEAR", s)
        w.doc.animations = [] if f == "no clip" else [animation]
        if f == "two clips":
            other = g.Animation(name="rest", channels=animation.channels[:1], samplers=animation.samplers[:1])
            w.doc.animations.append(other)

    def _channel(self, animation, node, path, stamps, out, kind, values):
        animation.samplers.append(g.AnimationSampler(input=stamps, output=out, interpolation=kind))
        target = g.AnimationChannelTarget(node=node, path=path)
        animation.channels.append(g.AnimationChannel(sampler=len(animation.samplers) - 1, target=target))
        self.curves[node, path] = kind, values

    def rest(self):
        return world(self.w.doc, {}, None)[:4]

    def at(self, t):
        return world(self.w.doc, self.curves, t, self.times)

    def save(self, folder):
        if self.feature == "embedded":
            path = folder / "a.gltf"
            self.w.doc.buffers = [
                g.Buffer(
                    byteLength=len(self.w.blob),
                    uri="data:application/octet-stream;base64," + base64.b64encode(self.w.blob).decode(),
                )
            ]
            path.write_text(self.w.doc.to_json())
            return path
        if self.feature == "beside":
            path = folder / "a.gltf"
            (folder / "a b.bin").write_bytes(self.w.blob)
            self.w.doc.buffers = [g.Buffer(byteLength=len(self.w.blob), uri="a%20b.bin")]
            path.write_text(self.w.doc.to_json())
            return path
        return self.w.save(folder / "a.glb")


def matrix(q):
    x, y, z, w = np.array(q, float) / np.linalg.norm(q)
    return np.array([
        [1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)], [2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)],
        [2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)],
    ])  # fmt: skip


def sample(kind, times, values, t):
    """A sampler at a time, by appendix C of the standard."""
    if t <= times[0] or len(times) == 1:
        return values[0] if kind != "CUBICSPLINE" else values[0, 1]
    if t >= times[-1]:
        return values[-1] if kind != "CUBICSPLINE" else values[-1, 1]
    k = int(np.searchsorted(times, t + 1e-7, side="right")) - 1
    if kind == "STEP":
        return values[k]
    long = times[k + 1] - times[k]
    u = max((t - times[k]) / long, 0.0)
    if kind == "CUBICSPLINE":
        a, b = values[k], values[k + 1]
        v = (
            (2 * u**3 - 3 * u**2 + 1) * a[1]
            + long * (u**3 - 2 * u**2 + u) * a[2]
            + (3 * u**2 - 2 * u**3) * b[1]
            + long * (u**3 - u**2) * b[0]
        )
        return v
    a, b = values[k], values[k + 1]
    if len(a) == 3:
        return a + u * (b - a)
    a, b = a / np.linalg.norm(a), b / np.linalg.norm(b)
    c = float(a @ b)
    b, c = (-b, -c) if c < 0 else (b, c)
    angle = np.arccos(min(c, 1.0))
    if angle < 1e-9:
        return a
    return (np.sin((1 - u) * angle) * a + np.sin(u * angle) * b) / np.sin(angle)


def world(doc, curves, t, times=None):
    """World matrices (N, 4, 4) of all nodes."""
    found = [None] * len(doc.nodes)

    def local(i):
        node = doc.nodes[i]
        if node.matrix is not None:
            return np.array(node.matrix, float).reshape(4, 4).T
        parts = {
            "translation": node.translation or [0.0] * 3,
            "rotation": node.rotation or [0, 0, 0, 1.0],
            "scale": node.scale or [1.0] * 3,
        }
        for (k, path), (kind, values) in curves.items():
            if k == i:
                parts[path] = sample(kind, times, values, t)
        m = np.eye(4)
        m[:3, :3] = matrix(parts["rotation"]) * np.array(parts["scale"], float)
        m[:3, 3] = parts["translation"]
        return m

    def go(i, above):
        found[i] = above @ local(i)
        for child in doc.nodes[i].children or ():
            go(child, found[i])

    tops = set(range(len(doc.nodes))) - {c for n in doc.nodes for c in n.children or ()}
    for i in tops:
        go(i, np.eye(4))
    return np.array(found)


FEATURES = (
    "plain", "bytes", "shorts", "wide joints", "eight weights", "STEP", "CUBICSPLINE", "sparse", "quantized", "interleaved", "short turns", "byte turns",
    "scaffold", "turned scaffold", "centimetres", "matrices", "uneven scale", "mirrored node", "strip", "fan", "not indexed", "two meshes", "rigid mesh",
    "idle skin", "no mesh", "no binds", "repeated names", "no names", "camera and light", "thirty", "film", "far apart", "halves", "odd times", "later",
    "milliseconds", "one key", "moving", "growing", "embedded", "beside", "no clip", "two clips",
)  # fmt: skip
RATES = {"thirty": 30.0, "film": 24000 / 1001, "milliseconds": 30.0}
SAID = {
    "idle skin": "wears the skin", "no mesh": "sticks stand", "repeated names": "appears 2 times", "far apart": "24 frames a second", "halves": "0.5 s apart",
    "odd times": "no common frames", "no clip": "no animation",
}  # fmt: skip


@pytest.mark.parametrize("feature", FEATURES)
def test_nodes_are_where_the_standard_has_them(tmp_path, feature):
    ship, assets = Ship(feature), AssetStore()
    imported = read_figure(ship.save(tmp_path), assets)
    f = imported.figure
    assert not SAID.get(feature) or any(SAID[feature] in n for n in imported.notes), imported.notes
    doc = ship.w.doc
    size = float(np.ptp(ship.heights)) * f.unit * (0.01 if "scaffold" in feature else 1.0)
    assert 1.0 < size < 3.0
    # of the nodes that are bones, by their order
    if feature in ("repeated names", "no names"):
        of = (
            {"yard": 2, "yard 2": 3, "deck": 0, "mast": 1}
            if feature == "repeated names"
            else {f"node {k}": k for k in range(4)}
        )
    else:
        of = {n: next(i for i, x in enumerate(doc.nodes) if x.name == n) for n in LINKS}
    rows = [f.bone_index[n] for n in of]
    nodes = list(of.values())
    clip = f.active_clip()
    if clip is None:
        m, true = rest_matrices(f)[None], ship.rest()[None]
    else:
        assert clip.rate == pytest.approx(RATES.get(feature, 24.0), rel=1e-9)
        # frames, and quarters of them
        end = ship.times[-1] - 1e-3
        frames = np.arange(int(end * clip.rate) * 4 + 1) / 4
        made = put_figure(Scene(), assets, imported)
        scene = made.scene
        assert feature == "one key" or scene.rate == clip.rate
        figure = scene.figures[0].changed(position=f.position)
        m = keyed_matrices(scene, assets, figure, frames)
        true = np.array([ship.at(x / clip.rate) for x in frames])[:, nodes]
    m = m[:, rows]
    metre = true[..., :3, 3] * f.unit
    assert np.abs(m[..., :3, 3] - metre).max() < (1e-5 if feature != "byte turns" else 2e-5)
    big = np.abs(true[..., :3, :3]).max()
    assert np.degrees(np.abs(m[..., :3, :3] / f.unit - true[..., :3, :3]).max() / big) < 0.01
    mesh = assets.decoded(f.asset, Mesh.from_arrays)
    if feature not in ("no mesh", "no binds"):
        shown = mesh.skin(rest_matrices(f))
        # the binds undo the rest
        carried = ship.points * f.unit
        if feature in ("two meshes", "rigid mesh"):
            shown = shown[: len(carried)] if feature == "two meshes" else shown[-len(carried) :]
        if "scaffold" in feature:
            return
        assert np.abs(shown - carried).max() < 2e-4
        assert len(mesh.triangles) == {"two meshes": 12, "rigid mesh": 12}.get(feature, 6)


def test_a_mesh_without_a_skin_is_sent_where_it_can_be_used(tmp_path):
    w = Writer()
    points = w.accessor(np.eye(3, dtype=np.float32), "VEC3")
    w.doc.meshes = [g.Mesh(primitives=[g.Primitive(attributes=g.Attributes(POSITION=points))])]
    w.doc.nodes = [g.Node(name="crate", mesh=0)]
    w.doc.scenes[0].nodes = [0]
    with pytest.raises(Exception, match="under Props"):
        read_figure(w.save(tmp_path / "a.glb"), AssetStore())


def test_what_was_left_out_is_said_with_the_error(tmp_path):
    ship = Ship("plain")
    path = ship.save(tmp_path)
    doc = json.loads(g.GLTF2().load(str(path)).to_json())
    doc["meshes"][0]["primitives"][0]["mode"] = 1
    doc["animations"][0]["samplers"][0]["output"] = 999
    doc["buffers"][0]["uri"] = "data:;base64," + base64.b64encode(ship.w.blob).decode()
    bad = tmp_path / "bad.gltf"
    bad.write_text(json.dumps(doc))
    with pytest.raises(Exception, match=r"999.*Besides: .*not made of triangles"):
        read_figure(bad, AssetStore())
