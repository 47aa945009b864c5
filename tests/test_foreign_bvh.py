"""BVH files of others: written by a library of its own, in the ways that people's files differ, and read where that library has every joint."""

import bvhio
import numpy as np
import pytest
from pyglm import glm

from artuline.core.motion.keyed import keyed_matrices
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Scene
from artuline.formats.bvh_read import read_figure

NAMES = ("Hull", "Mast", "Yard", "Flag")


def text_of(order="ZXY", frames=13, time="0.0416667", positions=("Hull",), up="Y"):
    """A file of four joints in a row and an end, its numbers by a seed."""
    rng = np.random.default_rng(4)
    lines, channels = ["HIERARCHY"], []
    axis = {"Y": "0 {} 0", "Z": "0 0 {}"}[up]
    for k, name in enumerate(NAMES):
        pad = "  " * k
        lines += [
            f"{pad}{'ROOT' if k == 0 else 'JOINT'} {name}",
            pad + "{",
            f"{pad}  OFFSET {axis.format(0.5 * (k > 0))}",
        ]
        own = [f"{a}position" for a in "XYZ"] if name in positions else []
        own += [f"{a}rotation" for a in order]
        channels.append((name, own))
        lines.append(f"{pad}  CHANNELS {len(own)} {' '.join(own)}")
    lines += ["        End Site", "        {", f"          OFFSET {axis.format(0.4)}", "        }"]
    lines += ["  " * k + "}" for k in (3, 2, 1, 0)]
    lines += ["MOTION", f"Frames: {frames}", f"Frame Time: {time}"]
    for _ in range(frames):
        row = []
        for _, own in channels:
            row += [f"{x:.6f}" for x in (rng.normal(size=3) * 0.3 if len(own) == 6 else ())]
            row += [f"{x:.6f}" for x in rng.uniform(-80, 80, 3)]
        lines.append(" ".join(row))
    return "\n".join(lines) + "\n"


def said(text):
    """Places (F, J, 3) by the library."""
    root = bvhio.readAsHierarchy(text)
    joints = [j for j, _, _ in root.layout() if j.Name in NAMES]
    frames = root.getKeyframeRange()[1] + 1
    found = np.zeros((frames, len(joints), 3))
    for f in range(frames):
        root.loadPose(f)
        found[f] = [list(glm.vec3(j.PositionWorld)) for j in joints]
    return found


def commas(text):
    head, motion = text.split("Frame Time: ")
    return head + "Frame Time: " + motion.replace(".", ",")


WAYS = {
    "plain": ({}, lambda t: t),
    "another order": ({"order": "YZX"}, lambda t: t),
    "places everywhere": ({"positions": NAMES}, lambda t: t),
    "film": ({"time": "0.0417083"}, lambda t: t),
    "few digits": ({"time": "0.0333"}, lambda t: t),
    "fine": ({"time": "0.00833333"}, lambda t: t),
    "poses far apart": ({"time": "0.5"}, lambda t: t),
    "remarks": ({}, lambda t: "# made ashore\n" + t.replace("MOTION", "// from here on\nMOTION")),
    "brackets beside names": ({}, lambda t: t.replace("\n{", " {").replace("\n  {", " {").replace("\n    {", "{")),
    "numbers beside colons": ({}, lambda t: t.replace("Frames: ", "Frames:").replace("Time: ", "Time:")),
    "decimal commas": ({}, commas),
    "other line ends": ({}, lambda t: t.replace("\n", "\r\n")),
    "old line ends": ({}, lambda t: t.replace("\n", "\r")),
    "tabs and small letters": ({}, lambda t: t.replace("  ", "\t").replace("CHANNELS", "channels").replace("OFFSET", "Offset")),
    "byte order mark": ({}, lambda t: "\ufeff" + t),
    "empty lines": ({}, lambda t: t.replace("\n", "\n\n")),
}  # fmt: skip
RATES = {"film": 24000 / 1001, "few digits": 30.0, "fine": 120.0}


@pytest.mark.parametrize("way", WAYS)
def test_joints_are_where_the_library_has_them(tmp_path, way):
    values, change = WAYS[way]
    clean = text_of(**values)
    plain, path, assets = tmp_path / "plain.bvh", tmp_path / "a.bvh", AssetStore()
    plain.write_text(clean)
    path.write_bytes(change(clean).encode())
    imported = read_figure(path, assets)
    f = imported.figure
    clip = f.active_clip()
    assert clip.rate == pytest.approx(RATES.get(way, 24.0), rel=1e-9)
    true = said(str(plain)) * f.unit
    step = {"poses far apart": 12}.get(way, 1)
    frames = np.arange(len(true)) * step
    m = keyed_matrices(Scene(figures=(f,), rate=clip.rate, end=400), assets, f, frames.astype(float))
    places = m[:, [f.bone_index[n] for n in NAMES]][..., :3, 3]
    # the library computes in single precision
    assert np.abs(places - true).max() < 1e-5, np.abs(places - true).max()
