"""The deckhand's clips: footfalls are planned, the pelvis follows the feet, legs are solved to reach them."""

import numpy as np
from scipy.ndimage import gaussian_filter1d
from scipy.spatial.transform import Rotation

RATE = 24.0


def ease(t):
    t = np.clip(t, 0.0, 1.0)
    return t * t * t * (t * (6 * t - 15) + 10)


class Feet:
    """Place and pitch of one foot over frames, from steps (start frame, end frame, x, z)."""

    def __init__(self, frames, start, steps, lift=0.09):
        n = len(frames)
        self.x, self.z = np.full(n, float(start[0])), np.full(n, float(start[1]))
        self.y, self.pitch, self.air = np.zeros(n), np.zeros(n), np.zeros(n)
        at = np.array(start, float)
        for a, b, x, z in steps:
            t = (frames - a) / (b - a)
            s = ease(t)
            live = t >= 0
            self.x = np.where(live, at[0] + s * (x - at[0]), self.x)
            self.z = np.where(live, at[1] + s * (z - at[1]), self.z)
            inside = (t > 0) & (t < 1)
            reach = min(np.hypot(x - at[0], z - at[1]) / 0.9, 1.0)
            self.y += np.where(inside, lift * (0.35 + 0.65 * reach) * np.sin(np.pi * np.clip(t, 0, 1)) ** 1.5, 0.0)
            self.air += np.where(inside, np.sin(np.pi * np.clip(t, 0, 1)), 0.0)
            # heel lifts before the step, toes are up at its end
            off = np.clip(1.0 - np.abs(t - 0.08) / 0.30, 0, 1) * 0.62 * reach
            on = np.clip(1.0 - np.abs(t - 0.93) / 0.26, 0, 1) * 0.36 * reach
            self.pitch += ease(off) * 0.62 * reach - ease(on / 0.36 if reach else on) * 0.30 * reach
            at = np.array([x, z])
        if len(frames) > 8:
            self.pitch = gaussian_filter1d(self.pitch, 0.8, mode="nearest")


def leg(hip, ankle, thigh, shin, forward):
    """World directions of thigh and shin that reach from hip to ankle, knee towards ``forward``."""
    d = ankle - hip
    far = (thigh + shin) * 0.9985
    length = np.linalg.norm(d)
    if length > far:
        d *= far / length
        length = far
    u = d / length
    cosine = np.clip((thigh**2 + length**2 - shin**2) / (2 * thigh * length), -1, 1)
    side = forward - u * (forward @ u)
    side /= np.linalg.norm(side)
    knee = hip + thigh * (cosine * u + np.sqrt(1 - cosine**2) * side)
    return (knee - hip) / thigh, (hip + d - knee) / shin, np.cross(u, side)


def basis(direction, hinge):
    y = -direction / np.linalg.norm(direction)
    x = hinge - y * (hinge @ y)
    x /= np.linalg.norm(x)
    return np.stack([x, y, np.cross(x, y)], -1)


def perform(bones, frames, left, right, upper, heading=None, hip_height=0.93, smooth=2.2, wrap=None):
    """Local rotations {bone: (F, 4)} and the pelvis' place (F, 3).

    ``upper(f, i, g)``: {bone: rotation vector} of the upper body, g holding gait signals at frame i.
    ``wrap``: frames of a whole round, for smoothing across the loop.
    """
    n = len(frames)
    place = {b: np.array(p) for b, (_, p) in bones.items()}
    heading = np.zeros(n) if heading is None else heading
    weight = np.clip(0.5 + 0.5 * (right.air - left.air), 0, 1)  # 1: on the left foot

    def soft(a, s):
        if wrap is None:
            return gaussian_filter1d(a, s, mode="nearest")
        slope = (a[-1] - a[0]) / (n - 1)
        flat = a - slope * np.arange(n)
        return (
            np.append(gaussian_filter1d(flat[:-1], s, mode="wrap"), 0)
            + slope * np.arange(n)
            + np.append(np.zeros(n - 1), gaussian_filter1d(flat[:-1], s, mode="wrap")[0])
        )

    mid_x, mid_z = soft((left.x + right.x) / 2, smooth), soft((left.z + right.z) / 2, smooth * 1.3)
    weight = soft(weight, smooth)
    spread = np.hypot(left.x - right.x, left.z - right.z)
    hips = np.stack([mid_x, np.full(n, hip_height), mid_z], -1)
    hips[:, 0] += soft((weight - 0.5) * (left.x - right.x) * 0.36, 1.0)
    hips[:, 1] -= soft(np.maximum(spread - 0.26, 0) ** 2 * 0.105, 1.0) + 0.012
    rotations = {b: np.tile([0.0, 0, 0, 1.0], (n, 1)) for b in bones}
    ahead = soft(np.clip((left.z - right.z), -0.8, 0.8), 1.2)
    rise = soft(right.air - left.air, 1.2)
    for i in range(n):
        g = {"ahead": ahead[i], "weight": weight[i], "rise": rise[i]}
        turn = Rotation.from_rotvec([0, heading[i], 0])
        pelvis = turn * Rotation.from_rotvec([0.05, -0.16 * ahead[i], 0.045 * rise[i]])
        pose = upper(frames[i], i, g)
        hips[i] += pose.pop("_hips", np.zeros(3))
        pelvis = pelvis * Rotation.from_rotvec(pose.pop("hips", np.zeros(3)))
        rotations["hips"][i] = pelvis.as_quat()
        for bone, r in pose.items():
            rotations[bone][i] = Rotation.from_rotvec(r).as_quat()
        for side, foot in (("l", left), ("r", right)):
            s = 1.0 if side == "l" else -1.0
            hip = hips[i] + pelvis.apply(place[f"thigh_{side}"] - place["hips"])
            rest_a = place[f"shin_{side}"] - place[f"thigh_{side}"]
            rest_b = place[f"foot_{side}"] - place[f"shin_{side}"]
            pitch = Rotation.from_rotvec([foot.pitch[i], 0, 0])
            out = turn * Rotation.from_rotvec([0, s * 0.12, 0])
            ball = place[f"toes_{side}"] - place[f"foot_{side}"]
            heel = np.array([0.0, -place[f"foot_{side}"][1], -0.05])
            lever = ball if foot.pitch[i] > 0 else heel
            ankle = np.array([foot.x[i], place[f"foot_{side}"][1] + foot.y[i], foot.z[i] + place[f"foot_{side}"][2]])
            ankle = ankle + out.apply(lever - pitch.apply(lever))
            forward = out.apply(np.array([s * 0.05, 0, 1.0]))
            a, b, hinge = leg(hip, ankle, np.linalg.norm(rest_a), np.linalg.norm(rest_b), forward)
            hinge0 = np.array([-1.0, 0, 0])
            thigh = Rotation.from_matrix(basis(a, -hinge) @ basis(rest_a, -hinge0).T)
            shin = Rotation.from_matrix(basis(b, -hinge) @ basis(rest_b, -hinge0).T)
            flat = out * pitch
            rotations[f"thigh_{side}"][i] = (pelvis.inv() * thigh).as_quat()
            rotations[f"shin_{side}"][i] = (thigh.inv() * shin).as_quat()
            rotations[f"foot_{side}"][i] = (shin.inv() * flat).as_quat()
            bend = -max(foot.pitch[i], 0.0) * 0.85 * (1 - min(foot.y[i] / 0.05, 1.0))
            rotations[f"toes_{side}"][i] = Rotation.from_rotvec([bend, 0, 0]).as_quat()
    return rotations, hips


def arms(swing_l, swing_r, bend_l=0.35, bend_r=0.35, out=0.16):
    """Arms hanging from the A pose, swung forward by radians."""
    pose = {}
    for side, s, swing, bend in (("l", 1.0, swing_l, bend_l), ("r", -1.0, swing_r, bend_r)):
        drop = Rotation.from_rotvec([0, 0, -s * (0.72 - out)])
        pose[f"upper_arm_{side}"] = (Rotation.from_rotvec([-swing, 0, 0]) * drop).as_rotvec()
        pose[f"forearm_{side}"] = np.array([-0.68, -s * 0.735, 0.0]) * bend
        pose[f"collar_{side}"] = np.array([0, s * -0.10 * swing, 0.0])
        pose[f"fingers_{side}"] = np.array([0.0, 0, -s * 0.35])
        pose[f"hand_{side}"] = np.array([0.0, 0, -s * 0.06])
    return pose


def gait(f, i, g, amount=1.0):
    a = g["ahead"] / 0.72
    pose = arms(-0.58 * a * amount, 0.58 * a * amount, 0.30 + 0.22 * max(-a, 0), 0.30 + 0.22 * max(a, 0))
    pose["spine"] = np.array([0.03, 0.12 * a, -0.03 * g["rise"]])
    pose["chest"] = np.array([0.02, 0.17 * a, -0.02 * g["rise"]])
    pose["neck"] = np.array([-0.03, -0.06 * a, 0.0])
    pose["head"] = np.array([-0.03, -0.07 * a, 0.01 * g["rise"]])
    return pose


STEP, HALF = 0.70, 12


def walk(bones):
    """One round of 24 frames, two steps of 0.70 m."""
    frames = np.arange(-24.0, 49.0)
    left, right = [], []
    for k in range(-3, 4):
        left.append((24 * k - 1, 24 * k + 10, 0.1, STEP * (2 * k + 1)))
        right.append((24 * k + 11, 24 * k + 22, -0.1, STEP * (2 * k + 2)))
    l_ = Feet(frames, (0.1, STEP * -7), left)
    r = Feet(frames, (-0.1, STEP * -6), right)
    rotations, hips = perform(bones, frames, l_, r, gait)
    cut = slice(24, 49)
    rotations = {b: q[cut].copy() for b, q in rotations.items()}
    for q in rotations.values():
        q[-1] = q[0]
    hips = hips[cut].copy()
    hips[:, 2] -= hips[0, 2]
    hips[-1, :2] = hips[0, :2]
    return np.arange(25), rotations, hips


def stand(bones):
    """Four seconds of standing, weight moving from foot to foot and back; loops."""
    frames = np.arange(0.0, 97.0)
    l_, r = Feet(frames, (0.14, 0.05), []), Feet(frames, (-0.14, -0.03), [])

    def upper(f, i, g):
        p = 2 * np.pi * f / 96
        sway = np.sin(p)
        pose = arms(0.03 * np.sin(p + 0.6), 0.03 * np.sin(p + 1.9), 0.28, 0.32, 0.2)
        pose["_hips"] = np.array([0.045 * sway, -0.008 + 0.004 * np.cos(2 * p), 0.01 * np.cos(p)])
        pose["hips"] = np.array([0, 0.05 * sway, -0.035 * sway])
        pose["spine"] = np.array([0.02 + 0.012 * np.sin(2 * p), -0.02 * sway, 0.03 * sway])
        pose["chest"] = np.array([0.015 * np.sin(3 * p), -0.03 * sway, 0.02 * sway])
        pose["head"] = np.array([0.03 * np.sin(2 * p + 1), 0.22 * np.sin(p + 0.8), 0.0])
        return pose

    rotations, hips = perform(bones, frames, l_, r, upper)
    return np.arange(97), rotations, hips


def reel(bones):
    """Hit from the left, a stagger of three steps to the right, and standing again: 60 frames."""
    frames = np.arange(0.0, 61.0)
    l_ = Feet(frames, (0.14, 0.04), [(13, 22, -0.34, 0.10), (36, 45, -0.52, 0.04)])
    r = Feet(frames, (-0.14, -0.02), [(5, 12, -0.62, -0.08), (23, 31, -0.86, 0.02)])

    def upper(f, i, g):
        hit = ease(f / 4) * np.exp(-np.maximum(f - 4, 0) / 9)
        rock = np.exp(-np.maximum(f - 10, 0) / 14) * np.sin(np.maximum(f - 6, 0) * 0.42) * ease((f - 6) / 4)
        pose = arms(
            0.5 * hit + 0.3 * rock,
            -0.45 * hit - 0.5 * rock,
            0.3 + 0.7 * hit,
            0.3 + 0.5 * hit,
            0.2 + 0.75 * hit,
        )
        pose["_hips"] = np.array([-0.10 * hit * np.exp(-f / 20), -0.05 * hit - 0.03 * abs(rock), 0.03 * rock])
        pose["hips"] = np.array([0.1 * rock, -0.25 * hit, 0.16 * hit - 0.05 * rock])
        pose["spine"] = np.array([0.1 * hit, -0.2 * hit, 0.26 * hit - 0.16 * rock])
        pose["chest"] = np.array([0.12 * hit, -0.25 * hit, 0.24 * hit - 0.2 * rock])
        pose["neck"] = np.array([0, 0.1 * hit, -0.30 * hit + 0.1 * rock])
        pose["head"] = np.array([-0.1 * rock, 0.2 * hit, -0.26 * hit + 0.16 * rock])
        return pose

    rotations, hips = perform(bones, frames, l_, r, upper, smooth=1.8)
    return np.arange(61), rotations, hips


def crossing(bones):
    """Three strides along +Z, then a halt and standing with a look aside: 168 frames."""
    frames = np.arange(0.0, 169.0)
    left, right = [], []
    z = 0.0
    for k in range(3):
        left.append((24 * k + 3, 24 * k + 14, 0.1, z + STEP))
        right.append((24 * k + 15, 24 * k + 26, -0.1, z + 2 * STEP))
        z += 2 * STEP
    left.append((75, 88, 0.13, z + 0.03))
    l_, r = Feet(frames, (0.1, -0.30), left), Feet(frames, (-0.1, 0.05), right)

    def upper(f, i, g):
        going = 1.0 - ease((f - 70) / 16)
        pose = gait(f, i, g, going)
        look = ease((f - 95) / 14) * (1 - ease((f - 135) / 16))
        pose["head"] = pose["head"] + np.array([0.02, 0.55 * look, 0])
        pose["chest"] = pose["chest"] + np.array([0.0, 0.12 * look, 0])
        pose["_hips"] = np.array([0.02 * np.sin(f / 15.0) * (1 - going), 0, 0])
        return pose

    rotations, hips = perform(bones, frames, l_, r, upper)
    return np.arange(169), rotations, hips


CLIPS = {"crossing": crossing, "walk": walk, "stand": stand, "reel": reel}
