"""Figures in glTF files written with pygltflib directly, by code that shares nothing with the importer."""

import math

import numpy as np
import pygltflib as g


class Writer:
    """Collects accessors into one binary block."""

    def __init__(self):
        self.doc = g.GLTF2(asset=g.Asset(version="2.0"), scene=0, scenes=[g.Scene(nodes=[])])
        self.blob = b""

    def accessor(self, a, kind, component=5126, **more):
        a = np.ascontiguousarray(a)
        self.blob += b"\0" * (-len(self.blob) % 4)
        self.doc.bufferViews.append(g.BufferView(buffer=0, byteOffset=len(self.blob), byteLength=a.nbytes))
        self.blob += a.tobytes()
        view = len(self.doc.bufferViews) - 1
        made = g.Accessor(bufferView=view, componentType=component, count=len(a), type=kind, **more)
        if kind in ("SCALAR", "VEC3") and component == 5126:
            flat = a.reshape(len(a), -1)
            made.min, made.max = flat.min(axis=0).tolist(), flat.max(axis=0).tolist()
        self.doc.accessors.append(made)
        return len(self.doc.accessors) - 1

    def save(self, path):
        self.doc.buffers = [g.Buffer(byteLength=len(self.blob))]
        self.doc.set_binary_blob(self.blob)
        self.doc.save_binary(str(path))
        return path


def tube(a, b, radius, rings=6, around=8):
    """Vertices and triangles of a closed tube from a to b."""
    a, b = np.array(a, float), np.array(b, float)
    along = (b - a) / np.linalg.norm(b - a)
    side = np.cross(along, [0.3, 0.5, 0.8])
    side /= np.linalg.norm(side)
    other = np.cross(along, side)
    t = np.linspace(0, 2 * np.pi, around, endpoint=False)
    ring = radius * (np.cos(t)[:, None] * side + np.sin(t)[:, None] * other)
    points = [a + (b - a) * i / (rings - 1) + ring for i in range(rings)]
    vertices = np.concatenate([*points, [a, b]])
    faces = []
    for i in range(rings - 1):
        for k in range(around):
            p, q = i * around + k, i * around + (k + 1) % around
            faces += [[p, q, q + around], [p, q + around, p + around]]
    for k in range(around):
        faces.append([rings * around, (k + 1) % around, k])
        last = (rings - 1) * around
        faces.append([rings * around + 1, last + k, last + (k + 1) % around])
    return vertices, np.array(faces)


def write_figure(path, bones, segments, *, size=1.0, scale=1.0, root_turn=None, clip=None, weights="float", step=None):
    """Write a figure.

    bones: name -> (parent name or None, place (3,) in the file's world); segments: (bone, a, b, radius) tubes
    bound wholly to one bone. ``scale``: of a scaffold node above the bones, whose own numbers are divided
    by it. ``step``: one closed skin around all segments, of cells of this size, instead of tubes. ``size``: file units per metre. ``root_turn``: quaternion of that node. ``clip``: bone -> (times, quaternions).
    """
    w = Writer()
    scale = scale / size
    names = list(bones)
    place = {n: np.array(p, float) for n, (_, p) in bones.items()}
    scaffold = g.Node(name="scaffold", scale=[scale * size] * 3, children=[])
    if root_turn is not None:
        scaffold.rotation = list(root_turn)
    w.doc.nodes.append(scaffold)
    # the nodes are written leaves first: the order of the nodes is free
    order = names[::-1]
    index = {n: i + 1 for i, n in enumerate(order)}
    for n in order:
        up = bones[n][0]
        t = (place[n] - (place[up] if up else 0.0)) / scale
        children = [index[c] for c in names if bones[c][0] == n]
        w.doc.nodes.append(g.Node(name=n, translation=t.tolist(), children=children))
    scaffold.children = [index[n] for n in names if bones[n][0] is None]
    vertices, faces, joints = [], [], []
    if step is not None:
        vertices, faces = closed_skin([s[1:] for s in segments], step)
        a, b, r = (np.array([s[k] for s in segments], float) for k in (1, 2, 3))
        joints = [names.index(segments[i][0]) for i in gaps(vertices, a, b, r).argmin(axis=1)]
        vertices = vertices / scale
    else:
        for bone, a, b, radius in segments:
            v, f = tube(a, b, radius)
            faces.append(f + sum(len(x) for x in vertices))
            vertices.append(v / scale)
            joints += [names.index(bone)] * len(v)
        vertices, faces = np.concatenate(vertices), np.concatenate(faces)
    slots = np.zeros((len(joints), 4), np.uint8)
    slots[:, 0] = joints
    if weights == "float":
        shares, component, more = np.eye(4, dtype=np.float32)[np.zeros(len(joints), int)], 5126, {}
    else:
        shares = np.zeros((len(joints), 4), np.uint8)
        shares[:, 0] = 255
        component, more = 5121, {"normalized": True}
    binds = np.tile(np.eye(4, dtype=np.float32), (len(names), 1, 1))
    for i, n in enumerate(names):
        binds[i, 3, :3] = -place[n] / scale
    attributes = g.Attributes(
        POSITION=w.accessor(vertices.astype(np.float32), "VEC3"),
        JOINTS_0=w.accessor(slots, "VEC4", 5121),
        WEIGHTS_0=w.accessor(shares, "VEC4", component, **more),
    )
    indices = w.accessor(faces.reshape(-1).astype(np.uint16), "SCALAR", 5123)
    w.doc.meshes = [g.Mesh(primitives=[g.Primitive(attributes=attributes, indices=indices)])]
    bind = w.accessor(binds.reshape(-1, 16), "MAT4")
    w.doc.skins = [g.Skin(joints=[index[n] for n in names], inverseBindMatrices=bind)]
    w.doc.nodes.append(g.Node(name="skin", mesh=0, skin=0))
    w.doc.scenes[0].nodes = [0, len(w.doc.nodes) - 1]
    if clip:
        animation = g.Animation(name="move", channels=[], samplers=[])
        for bone, (times, quaternions) in clip.items():
            sampler = g.AnimationSampler(
                input=w.accessor(np.array(times, np.float32), "SCALAR"),
                output=w.accessor(np.array(quaternions, np.float32), "VEC4"),
                interpolation="LINEAR",
            )
            animation.samplers.append(sampler)
            target = g.AnimationChannelTarget(node=index[bone], path="rotation")
            animation.channels.append(g.AnimationChannel(sampler=len(animation.samplers) - 1, target=target))
        w.doc.animations = [animation]
    return w.save(path)


def turn(axis, degrees):
    """Quaternion of a rotation about a world axis."""
    a = math.radians(degrees) / 2
    return [*(math.sin(a) * np.array(axis, float)), math.cos(a)]


def swing_clip(bone, axis=(1, 0, 0), degrees=30.0, seconds=2.0):
    """A bone that swings to and fro."""
    times = np.linspace(0, seconds, 49)
    return {bone: (times, [turn(axis, degrees * math.sin(math.pi * t)) for t in times])}


def write_walker(path, **more):
    """A two-legged figure, 1.7 m, with bone names of its own."""
    bones = {
        "Mate Pelvis": (None, (0, 0.95, 0)), "Mate Torso": ("Mate Pelvis", (0, 1.1, 0)),
        "Mate Skull": ("Mate Torso", (0, 1.5, 0)),
    }  # fmt: skip
    segments = [
        ("Mate Pelvis", (0, 0.9, 0), (0, 1.08, 0), 0.13), ("Mate Torso", (0, 1.1, 0), (0, 1.48, 0), 0.15),
        ("Mate Skull", (0, 1.5, 0), (0, 1.7, 0), 0.09),
    ]  # fmt: skip
    for side, s in (("Left", 1), ("Right", -1)):
        x = 0.1 * s
        bones |= {
            f"{side} Thigh": ("Mate Pelvis", (x, 0.9, 0)), f"{side} Calf": (f"{side} Thigh", (x, 0.48, 0.01)),
            f"{side} Foot": (f"{side} Calf", (x, 0.08, 0)),
            f"{side} UpperArm": ("Mate Torso", (2.2 * x, 1.42, 0)),
            f"{side} Elbow": (f"{side} UpperArm", (2.4 * x, 1.14, 0)),
        }  # fmt: skip
        segments += [
            (f"{side} Thigh", (x, 0.88, 0), (x, 0.5, 0), 0.075),
            (f"{side} Calf", (x, 0.46, 0), (x, 0.1, 0), 0.055),
            (f"{side} Foot", (x, 0.04, -0.06), (x, 0.04, 0.16), 0.04),
            (f"{side} UpperArm", (2.2 * x, 1.4, 0), (2.4 * x, 1.16, 0), 0.045),
            (f"{side} Elbow", (2.4 * x, 1.12, 0), (2.5 * x, 0.85, 0), 0.04),
        ]
    more.setdefault("clip", swing_clip("Left Thigh"))
    return write_figure(path, bones, segments, **more)


def write_centimetre_walker(path):
    """The same in centimetres, with weights as normalised integers."""
    return write_walker(path, size=100.0, weights="integer")


def write_scaled_walker(path):
    """The same in metres, below a scaffold that is scaled by 0.01."""
    return write_walker(path, scale=0.01)


def write_chain(path, count=40):
    """A chain of bones, 2 m long, hanging from a post, lying along Z in the file and turned up by its root."""
    bones = {"post": (None, (0, 0, 2.2))}
    segments = [("post", (0, 0, 2.1), (0, 0, 2.2), 0.05)]
    step = 2.0 / count
    for i in range(count):
        z = 2.1 - i * step
        bones[f"link.{i:02d}"] = ("post" if i == 0 else f"link.{i - 1:02d}", (0, 0, z))
        segments.append((f"link.{i:02d}", (0, 0, z - 0.004), (0, 0, z - step + 0.004), 0.018))
    clip = swing_clip("link.00", axis=(0, 1, 0), degrees=25.0)
    return write_figure(path, bones, segments, root_turn=turn((1, 0, 0), -90), clip=clip)


def write_crawler(path):
    """A six-legged crawler in centimetres, of code names, with a clip that lifts its legs: nothing like the shipped figures."""
    bones = {
        "core": (None, (0.0, 22.0, 0.0)),
        "brow": ("core", (0.0, 24.0, 30.0)),
        "sting": ("core", (0.0, 26.0, -28.0)),
    }
    segments = [
        ("core", (0, 22, -26), (0, 22, 26), 9.0), ("brow", (0, 24, 30), (0, 27, 46), 6.0),
        ("sting", (0, 26, -28), (0, 42, -52), 4.0),
    ]  # fmt: skip
    clip = {}
    times = np.linspace(0.0, 1.0, 13)
    for k, z in enumerate((18.0, 0.0, -18.0)):
        for side, s in (("Left", 1.0), ("Right", -1.0)):
            hip, knee, tip = (s * 9.0, 22.0, z), (s * 32.0, 30.0, z * 1.4), (s * 46.0, 1.5, z * 1.7)
            a, b = f"{side}Limb{k}A", f"{side}Limb{k}B"
            bones[a], bones[b] = ("core", hip), (a, knee)
            segments += [(a, hip, knee, 3.2), (b, knee, tip, 2.2)]
            swing = 0.25 * np.sin(2 * np.pi * (times + k / 3 + (0.5 if s > 0 else 0.0)))
            clip[a] = (times, [[0.0, math.sin(x / 2), 0.0, math.cos(x / 2)] for x in swing])
            bend = 0.3 * np.maximum(np.sin(2 * np.pi * (times + k / 3)), 0.0)
            clip[b] = (times, [[0.0, 0.0, s * math.sin(x / 2), math.cos(x / 2)] for x in bend])
    return write_figure(path, bones, segments, size=1.0, clip=clip, weights="bytes")


def closed_skin(segments, step, smooth=6):
    """One closed surface around (a, b, radius) segments: the faces of the cells inside of them, smoothed. Vertices, triangles."""
    a, b, r = (np.array([s[k] for s in segments], float) for k in range(3))
    low, high = np.minimum(a, b).min(axis=0) - r.max() - step, np.maximum(a, b).max(axis=0) + r.max() + step
    count = np.ceil((high - low) / step).astype(int)
    cells = low + step * (np.stack(np.meshgrid(*(np.arange(n) for n in count), indexing="ij"), -1) + 0.5)
    inside = gaps(cells.reshape(-1, 3), a, b, r).min(axis=1).reshape(count) < 0.0
    corners, faces = {}, []

    def corner(key):
        return corners.setdefault(tuple(key), len(corners))

    for axis in range(3):
        u, v = (axis + 1) % 3, (axis + 2) % 3
        for side in (0, 1):
            beyond = np.roll(inside, 1 if side == 0 else -1, axis=axis)
            for cell in np.argwhere(inside & ~beyond):
                base = cell.copy()
                base[axis] += side
                quad = []
                for du, dv in ((0, 0), (1, 0), (1, 1), (0, 1)):
                    at = base.copy()
                    at[u] += du
                    at[v] += dv
                    quad.append(corner(at))
                quad = quad if side else quad[::-1]
                faces += [quad[:3], [quad[0], quad[2], quad[3]]]
    points, faces = low + step * np.array(list(corners), float), np.array(faces)
    for _ in range(smooth):
        total, times = np.zeros_like(points), np.zeros(len(points))
        for i, k in ((0, 1), (1, 2), (2, 0), (1, 0), (2, 1), (0, 2)):
            np.add.at(total, faces[:, i], points[faces[:, k]])
            np.add.at(times, faces[:, i], 1.0)
        points = 0.5 * points + 0.5 * total / times[:, None]
    return points, faces


def gaps(points, a, b, radius):
    """Distances (N, S) of points from the surfaces of capsules."""
    way = b - a
    t = np.clip(np.einsum("nsi,si->ns", points[:, None] - a, way) / (way**2).sum(axis=1), 0.0, 1.0)
    return np.linalg.norm(points[:, None] - a - t[..., None] * way, axis=2) - radius


def write_hand(path):
    """A hand in centimetres, of one closed skin, whose bones all hang from one node that carries none, in an order that says nothing."""
    places, fingers, segments = {"node": (None, (0.0, 0.0, 0.0))}, {}, []
    spread = {
        "t": (-3.2, 3.0, 0.8),
        "i": (-2.7, 8.6, 0.2),
        "m": (-0.9, 9.0, 0.0),
        "r": (0.9, 8.7, -0.12),
        "p": (2.6, 8.0, -0.28),
    }
    for x in (-2.2, -0.7, 0.8, 2.1):
        segments.append(("palm", (x * 0.6, 1.2, 0.0), (x, 8.0, 0.0), 1.25))
    places["palm"] = ("node", (0.0, 0.4, 0.0))
    for key, (x, y, lean) in spread.items():
        at = np.array([x, y, 0.0])
        way = np.array([-lean, 1.0, 0.25 * lean])
        way /= np.linalg.norm(way)
        for k, length in enumerate((3.6, 2.6, 2.0), 1):
            end = at + length * way
            fingers[f"{key}{k}"] = tuple(at)
            segments.append((f"{key}{k}", tuple(at - (0.6 * way if k == 1 else 0.0)), tuple(end), 0.85 - 0.06 * k))
            at = end
    for name in sorted(fingers, key=lambda n: (n[1], n[0])):
        places[name] = ("node", fingers[name])
    times = np.linspace(0.0, 1.0, 25)
    clip = {f"{k}1": (times, [turn((1, 0, 0), 25.0 * math.sin(math.pi * t)) for t in times]) for k in "imrp"}
    return write_figure(path, places, segments, size=1.0, clip=clip, step=0.38)
