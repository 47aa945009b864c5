"""The deckhand's clips for being steered: running, and getting up from the back and from the front."""

import numpy as np
from deckhand_moves import Feet, arms, basis, leg, perform
from scipy.interpolate import PchipInterpolator
from scipy.spatial.transform import Rotation

STRIDE, ROUND = 0.82, 15  # of a run: metres of a step, frames of two


def run(bones):
    """One round of 15 frames, two steps of 0.82 m, with a flight after each."""
    frames = np.arange(-2.0 * ROUND, 2.0 * ROUND + 1)
    left, right = [], []
    for k in range(-3, 4):
        left.append((ROUND * k, ROUND * k + 9.6, 0.07, STRIDE * (2 * k + 2)))
        right.append((ROUND * (k + 0.5), ROUND * (k + 0.5) + 9.6, -0.07, STRIDE * (2 * k + 3)))
    l_ = Feet(frames, (0.07, STRIDE * -6), left, lift=0.20)
    r = Feet(frames, (-0.07, STRIDE * -5), right, lift=0.20)
    half = ROUND / 2

    def upper(f, i, g):
        a = float(np.clip(g["ahead"] / 0.7, -1.2, 1.2))
        pose = arms(-0.75 * a, 0.75 * a, 1.75, 1.75, 0.20)
        pose["_hips"] = np.array([0.0, 0.028 * np.cos(2 * np.pi * (f - 1.05) / half), 0.05])
        pose["hips"] = np.array([0.10, 0.0, 0.0])
        pose["spine"] = np.array([0.06, 0.14 * a, -0.03 * g["rise"]])
        pose["chest"] = np.array([0.04, 0.18 * a, -0.02 * g["rise"]])
        pose["neck"] = np.array([-0.10, -0.08 * a, 0.0])
        pose["head"] = np.array([-0.10, -0.10 * a, 0.0])
        return pose

    rotations, hips = perform(bones, frames, l_, r, upper, hip_height=0.895, smooth=3.2)
    cut = slice(2 * ROUND, 3 * ROUND + 1)
    rotations = {b: q[cut].copy() for b, q in rotations.items()}
    for q in rotations.values():
        q[-1] = q[0]
    hips = hips[cut].copy()
    hips[:, 2] -= hips[0, 2]
    hips[-1, :2] = hips[0, :2]
    return np.arange(ROUND + 1), rotations, hips


def _curves(keys):
    """Smooth curves through {frame: {name: numbers}}; a name that is not given at a frame passes through."""
    names = {n for values in keys.values() for n in values}
    found = {}
    for name in sorted(names):
        at = [f for f, values in keys.items() if name in values]
        found[name] = PchipInterpolator(at, np.array([keys[f][name] for f in at], float))
    return found


def _limb(carrier, start, goal, rest_a, rest_b, middle, rest_middle):
    """Local rotations of a limb's two bones that reach from a place to another, its middle joint towards a direction."""
    a, b, hinge = leg(start, goal, np.linalg.norm(rest_a), np.linalg.norm(rest_b), middle)
    along = (rest_a + rest_b) / np.linalg.norm(rest_a + rest_b)
    hinge0 = np.cross(along, rest_middle - along * (along @ rest_middle))
    hinge0 /= np.linalg.norm(hinge0)
    upper = Rotation.from_matrix(basis(a, -hinge) @ basis(rest_a, -hinge0).T)
    lower = Rotation.from_matrix(basis(b, -hinge) @ basis(rest_b, -hinge0).T)
    return carrier.inv() * upper, upper.inv() * lower, lower


def _rise(bones, keys, last):
    """A motion by places of hips, feet and hands: ``hips`` place and pitch, ``back`` pitch of spine, chest and head, ``foot_l``, ``foot_r``: place of the ankle
    and pitch, ``knee``: the way the knees point (y, z), ``hand_l``, ``hand_r``: place and the way the elbow points.
    """
    place = {b: np.array(p) for b, (_, p) in bones.items()}
    curves, frames = _curves(keys), np.arange(last + 1)
    rotations, hips = {b: np.tile([0.0, 0, 0, 1.0], (len(frames), 1)) for b in bones}, np.zeros((len(frames), 3))
    for i, f in enumerate(frames):
        at = {n: c(f) for n, c in curves.items()}
        hips[i] = at["hips"][:3]
        turned = {"hips": Rotation.from_rotvec([at["hips"][3], 0, 0])}
        where = {"hips": hips[i]}
        local = {"hips": turned["hips"]}
        for bone, up, pitch in (("spine", "hips", at["back"][0]), ("chest", "spine", at["back"][1]),
                                ("neck", "chest", 0.4 * at["back"][2]), ("head", "neck", 0.6 * at["back"][2])):  # fmt: skip
            local[bone] = Rotation.from_rotvec([pitch, 0, 0])
            turned[bone] = turned[up] * local[bone]
            where[bone] = where[up] + turned[up].apply(place[bone] - place[up])
        for side, s in (("l", 1.0), ("r", -1.0)):
            ankle, middle = at[f"foot_{side}"], np.array([0.12 * s, *at["knee"]])
            hip = hips[i] + turned["hips"].apply(place[f"thigh_{side}"] - place["hips"])
            a, b = place[f"shin_{side}"] - place[f"thigh_{side}"], place[f"foot_{side}"] - place[f"shin_{side}"]
            thigh, shin, low = _limb(turned["hips"], hip, ankle[:3], a, b, middle, np.array([0.0, 0, 1.0]))
            local[f"thigh_{side}"], local[f"shin_{side}"] = thigh, shin
            facing = Rotation.from_rotvec([0, 0.14 * s, 0]) * Rotation.from_rotvec([ankle[3], 0, 0])
            local[f"foot_{side}"] = low.inv() * facing
            hand = at[f"hand_{side}"]
            shoulder = where["chest"] + turned["chest"].apply(place[f"upper_arm_{side}"] - place["chest"])
            a = place[f"forearm_{side}"] - place[f"upper_arm_{side}"]
            b = place[f"hand_{side}"] - place[f"forearm_{side}"]
            arm, fore, _ = _limb(turned["chest"], shoulder, hand[:3], a, b, hand[3:6], np.array([0.0, 0.0, -1.0]))
            local[f"upper_arm_{side}"], local[f"forearm_{side}"] = arm, fore
        for bone, r in local.items():
            rotations[bone][i] = r.as_quat()
    return frames, rotations, hips


def _hands(x, y, z, elbow):
    """Both hands at mirrored places, elbows pointing to mirrored sides."""
    return {"hand_l": [x, y, z, elbow[0], elbow[1], elbow[2]], "hand_r": [-x, y, z, -elbow[0], elbow[1], elbow[2]]}


def _feet(x, y, z, pitch):
    return {"foot_l": [x, y, z, pitch], "foot_r": [-x, y, z, pitch]}


STANDS = {"hips": [0.0, 0.915, 0.30, 0.05], "back": [0.02, 0.01, -0.02], "knee": [0.0, 1.0]}
ANKLE = 0.095


def from_back(bones):
    """From lying on the back: sits up, draws the feet in, and rises: 66 frames."""
    back = (0.25, -0.3, -1.0)
    keys = {
        0: {"hips": [0, 0.125, 0, -1.57], "back": [0.0, 0.0, 0.10], "knee": [1.0, 0.15], **_feet(0.14, 0.12, 0.81, -1.2), **_hands(0.42, 0.10, -0.08, (0.6, -0.3, -0.4))},
        12: {"hips": [0, 0.13, 0, -1.25], "back": [0.38, 0.34, 0.25], "knee": [1.0, 0.1], **_feet(0.14, 0.11, 0.66, -0.5), **_hands(0.40, 0.14, 0.02, back)},
        22: {"hips": [0, 0.15, 0.02, -0.62], "back": [0.50, 0.40, 0.10], "knee": [1.0, 0.1], **_feet(0.15, ANKLE, 0.50, 0.0), **_hands(0.38, 0.12, -0.18, back)},
        32: {"hips": [0, 0.22, 0.07, -0.05], "back": [0.50, 0.40, -0.15], "knee": [0.8, 0.6], **_feet(0.15, ANKLE, 0.36, 0.0), **_hands(0.36, 0.13, -0.12, back)},
        44: {"hips": [0, 0.44, 0.16, 0.55], "back": [0.40, 0.28, -0.35], "knee": [0.3, 1.0], **_feet(0.15, ANKLE, 0.30, 0.0), **_hands(0.24, 0.48, 0.52, (0.7, -0.4, -0.3))},
        56: {"hips": [0, 0.76, 0.25, 0.36], "back": [0.20, 0.14, -0.25], "knee": [0.0, 1.0], **_feet(0.15, ANKLE, 0.28, 0.0), **_hands(0.33, 0.72, 0.42, (0.5, 0.0, -1.0))},
        66: {**STANDS, **_feet(0.14, ANKLE, 0.28, 0.0), **_hands(0.36, 0.86, 0.30, (0.4, 0.0, -1.0))},
    }  # fmt: skip
    return _rise(bones, keys, 66)


def from_front(bones):
    """From lying on the front: pushes up on hands and knees, sets one foot, then the other, and rises: 72 frames."""
    out = (1.0, 0.3, -0.2)
    keys = {
        0: {"hips": [0, 0.115, 0, 1.57], "back": [0.0, -0.05, -0.25], "knee": [-1.0, 0.1], **_feet(0.13, 0.10, -0.80, 2.5), **_hands(0.38, 0.07, 0.34, out)},
        14: {"hips": [0, 0.24, -0.06, 1.40], "back": [-0.10, -0.10, -0.35], "knee": [-1.0, 0.15], **_feet(0.13, 0.10, -0.72, 2.45), **_hands(0.30, 0.07, 0.34, out)},
        28: {"hips": [0, 0.47, -0.12, 1.12], "back": [0.10, 0.05, -0.45], "knee": [-1.0, 0.5], **_feet(0.13, 0.11, -0.52, 2.2), **_hands(0.26, 0.07, 0.34, (0.9, 0.1, -0.6))},
        35: {"foot_r": [-0.15, 0.25, -0.18, 1.1]},
        42: {"hips": [0, 0.52, 0.02, 0.98], "back": [0.18, 0.10, -0.45], "knee": [-0.2, 1.0], "foot_l": [0.14, 0.185, -0.36, 1.3], "foot_r": [-0.15, ANKLE, 0.20, 0.0],
             **_hands(0.26, 0.16, 0.42, (0.9, 0.1, -0.6))},
        48: {"foot_l": [0.14, 0.24, -0.20, 0.9]},
        54: {"hips": [0, 0.66, 0.14, 0.70], "back": [0.22, 0.14, -0.40], "knee": [0.0, 1.0], "foot_l": [0.14, 0.18, 0.05, 0.35], "foot_r": [-0.15, ANKLE, 0.24, 0.0],
             **_hands(0.26, 0.50, 0.56, (0.7, -0.2, -0.6))},
        62: {"hips": [0, 0.82, 0.24, 0.38], "back": [0.14, 0.10, -0.25], "knee": [0.0, 1.0], "foot_l": [0.14, ANKLE, 0.28, 0.0], "foot_r": [-0.15, ANKLE, 0.26, 0.0],
             **_hands(0.33, 0.74, 0.44, (0.5, 0.0, -1.0))},
        72: {**STANDS, **_feet(0.14, ANKLE, 0.28, 0.0), **_hands(0.36, 0.86, 0.30, (0.4, 0.0, -1.0))},
    }  # fmt: skip
    return _rise(bones, keys, 72)


CLIPS = {"run": run, "rise from back": from_back, "rise from front": from_front}
