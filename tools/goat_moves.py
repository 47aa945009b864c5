"""The goat's clips: hooves follow planned paths, three-jointed legs are solved to reach them."""

import numpy as np
from deckhand_moves import basis, ease, leg
from scipy.spatial.transform import Rotation

RATE = 24.0
LEGS = {  # names from the body down, and where in its round the leg is
    "fore": ("shoulder", "foreleg", "forecannon", "forehoof"),
    "hind": ("haunch", "gaskin", "cannon", "hoof"),
}


def hoof_path(phase, stride, stand, lift):
    """Place along the way (from the middle of the stance), height and pitch of a hoof at a phase 0..1."""
    phase = phase % 1.0
    if phase < stand:
        t = phase / stand
        return stride * stand * (0.5 - t), 0.0, 0.35 * ease((t - 0.82) / 0.18)
    t = (phase - stand) / (1.0 - stand)
    along = stride * stand * (-0.5 + ease(t))
    return along, lift * np.sin(np.pi * t) ** 1.3, 0.35 * (1.0 - ease(t / 0.3)) + 0.75 * np.sin(np.pi * t) ** 2


def go(bones, count, stride, stand, lift, phases, bounce, nod, rounds=1):
    """Rotations and root of one round of a gait in ``count`` frames; phases by (pair, side)."""
    n = count * rounds + 1
    place = {b: np.array(p) for b, (_, p) in bones.items()}
    rotations = {b: np.tile([0.0, 0, 0, 1.0], (n, 1)) for b in bones}
    root = np.zeros((n, 3))
    for i in range(n):
        t = i / count
        p = 2.0 * np.pi * t
        beat = 2.0 * p
        hips_at = place["hips"] + [0.008 * np.sin(p), bounce * np.sin(beat), stride * t]
        pelvis = Rotation.from_rotvec([0.03 * np.sin(beat + 0.6), 0.05 * np.sin(p), 0.05 * np.sin(p + 0.5)])
        spine = Rotation.from_rotvec([-0.02 * np.sin(beat), -0.05 * np.sin(p), -0.04 * np.sin(p + 0.5)])
        chest = Rotation.from_rotvec([-0.02 * np.sin(beat + 1.0), -0.05 * np.sin(p), -0.03 * np.sin(p)])
        neck = Rotation.from_rotvec([nod * np.sin(beat + 0.9), 0.03 * np.sin(p), 0.0])
        head = Rotation.from_rotvec([-0.7 * nod * np.sin(beat + 0.7), 0.02 * np.sin(p), 0.0])
        root[i] = hips_at
        turned = {"hips": pelvis}
        at = {"hips": hips_at}
        for bone, up, r in (
            ("spine", "hips", spine), ("chest", "spine", chest), ("neck", "chest", neck), ("head", "neck", head),
        ):  # fmt: skip
            at[bone] = at[up] + turned[up].apply(place[bone] - place[up])
            turned[bone] = turned[up] * r
            rotations[bone][i] = r.as_quat()
        rotations["hips"][i] = pelvis.as_quat()
        for (pair, side), shift in phases.items():
            upper, middle, lower, hoof = (f"{b}_{side}" for b in LEGS[pair])
            along, up, pitch = hoof_path(t + shift, stride, stand, lift)
            ankle = place[hoof] + [0.0, up, along + stride * t]
            swung = Rotation.from_rotvec([pitch, 0.0, 0.0])
            tilt = Rotation.from_rotvec(
                [0.55 * (along / stride) + (1.15 if pair == "hind" else 1.0) * up / lift * 0.7, 0, 0]
            )
            cannon = tilt.apply(place[hoof] - place[lower])
            hock = ankle - cannon
            base = bones[upper][0]
            top = at[base] + turned[base].apply(place[upper] - place[base])
            rest_a, rest_b = place[middle] - place[upper], place[lower] - place[middle]
            forward = np.array([0.0, 0.0, 1.0 if pair == "hind" else -1.0])
            a, b, hinge = leg(top, hock, np.linalg.norm(rest_a), np.linalg.norm(rest_b), forward)
            side_axis = np.array([-1.0 if pair == "hind" else 1.0, 0.0, 0.0])
            first = Rotation.from_matrix(basis(a, -hinge) @ basis(rest_a, -side_axis).T)
            second = Rotation.from_matrix(basis(b, -hinge) @ basis(rest_b, -side_axis).T)
            rotations[upper][i] = (turned[base].inv() * first).as_quat()
            rotations[middle][i] = (first.inv() * second).as_quat()
            rotations[lower][i] = (second.inv() * tilt).as_quat()
            rotations[hoof][i] = (tilt.inv() * swung).as_quat()
        for side, s in (("l", 1.0), ("r", -1.0)):
            rotations[f"ear_{side}"][i] = Rotation.from_rotvec(
                [0.05 * np.sin(beat), 0, s * 0.08 * np.sin(beat + 2.0)]
            ).as_quat()
        rotations["tail"][i] = Rotation.from_rotvec([0.06 * np.sin(beat), 0.10 * np.sin(p), 0]).as_quat()
    return np.arange(n), rotations, root


def walk(bones):
    """One round of 28 frames, four beats."""
    phases = {("hind", "l"): 0.0, ("fore", "l"): 0.75, ("hind", "r"): 0.5, ("fore", "r"): 0.25}
    return go(bones, 28, 0.62, 0.64, 0.07, phases, 0.006, 0.05)


def trot(bones):
    """Three rounds of 14 frames, pairs of legs across."""
    phases = {("hind", "l"): 0.0, ("fore", "r"): 0.0, ("hind", "r"): 0.5, ("fore", "l"): 0.5}
    return go(bones, 14, 0.86, 0.44, 0.10, phases, 0.016, 0.05, rounds=3)


def look(bones):
    """Standing and looking about, 120 frames; loops."""
    phases = {(pair, side): 0.32 for pair in LEGS for side in "lr"}
    frames, rotations, root = go(bones, 120, 1e-6, 0.64, 0.07, phases, 0.0, 0.0)
    for q in rotations.values():
        q[:] = q[0]
    root[:] = root[0]
    for i in range(121):
        t = i / 120
        left, right = ease((t - 0.12) / 0.1) - ease((t - 0.4) / 0.12), ease((t - 0.55) / 0.1) - ease((t - 0.84) / 0.12)
        down = ease((t - 0.3) / 0.08) - ease((t - 0.46) / 0.08)
        turn = 0.55 * left - 0.6 * right
        breath = np.sin(6 * np.pi * t)
        poses = {
            "neck": [0.32 * down - 0.10 * right, 0.55 * turn, 0.0],
            "head": [0.22 * down + 0.10 * right, 0.75 * turn, 0.18 * right],
            "chest": [0.01 * breath, 0.08 * turn, 0.0],
            "ear_l": [0.0, 0.35 * right, -0.25 * left],
            "ear_r": [0.0, -0.35 * left, 0.25 * right],
            "tail": [0.0, 0.5 * np.sin(20 * np.pi * t) * (ease((t - 0.4) / 0.05) - ease((t - 0.55) / 0.05)), 0.0],
        }
        for bone, r in poses.items():
            rotations[bone][i] = (Rotation.from_quat(rotations[bone][i]) * Rotation.from_rotvec(r)).as_quat()
    return frames, rotations, root


CLIPS = {"walk": walk, "trot": trot, "look": look}
