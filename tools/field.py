"""Blended volumes: signed distances of rounded cones and ellipsoids, joined smoothly and turned into a mesh."""

from dataclasses import dataclass

import fast_simplification
import numpy as np
from skimage.measure import marching_cubes


@dataclass(frozen=True)
class Cone:
    """A rounded cone from a to b (metres) with radii ra, rb, flattened along z by ``flat``; moves with ``bone``."""

    bone: str
    a: tuple
    b: tuple
    ra: float
    rb: float
    flat: float = 1.0

    def distance(self, p):
        k = np.array([1.0, 1.0, 1.0 / self.flat])
        a, b, p = np.array(self.a) * k, np.array(self.b) * k, p * k
        ba = b - a
        t = np.clip((p - a) @ ba / max(ba @ ba, 1e-12), 0.0, 1.0)
        d = np.linalg.norm(p - a - t[..., None] * ba, axis=-1)
        return d - (self.ra + t * (self.rb - self.ra))


@dataclass(frozen=True)
class Ball:
    """An ellipsoid with half axes r."""

    bone: str
    c: tuple
    r: tuple

    def distance(self, p):
        q = (p - np.array(self.c)) / np.array(self.r)
        length = np.linalg.norm(q, axis=-1)
        return (length - 1.0) * min(self.r) * 0.5 + 0.5 * (length - 1.0) * length / np.maximum(
            np.linalg.norm(q / np.array(self.r), axis=-1), 1e-9
        )


def blended(parts, p, k):
    """Smooth union by the exponential minimum: soft over about k metres."""
    total = np.zeros(p.shape[:-1])
    for part in parts:
        total += np.exp(-np.clip(part.distance(p) / k, -40, 40))
    return -k * np.log(np.maximum(total, 1e-18))


def mesh_of(parts, cell, triangles, k=0.012, below=None, above=None, cuts=()):
    """Marching cubes over the field, decimated. Returns positions, normals, triangles.

    ``cuts``: (normal, offset) half spaces to keep where normal . p < offset.
    """
    lo = np.min(
        [np.minimum(c.a, c.b) - max(c.ra, c.rb) if isinstance(c, Cone) else np.array(c.c) - c.r for c in parts],
        axis=0,
    )
    hi = np.max(
        [np.maximum(c.a, c.b) + max(c.ra, c.rb) if isinstance(c, Cone) else np.array(c.c) + c.r for c in parts],
        axis=0,
    )
    lo, hi = lo - 0.05, hi + 0.05
    n = np.ceil((hi - lo) / cell).astype(int)
    grid = np.stack(np.meshgrid(*(lo[i] + cell * np.arange(n[i] + 1) for i in range(3)), indexing="ij"), -1)

    def field(p):
        d = blended(parts, p, k)
        for normal, offset in cuts:
            d = np.maximum(d, p @ np.array(normal) - offset)
        return d

    v, f, _, _ = marching_cubes(field(grid), 0.0, spacing=(cell,) * 3)
    v = v + lo
    f = f[:, ::-1]
    if len(f) > triangles:
        v, f = fast_simplification.simplify(v.astype(np.float32), f.astype(np.int32), 1.0 - triangles / len(f))
    v = v.astype(float)
    e = 2e-3
    normals = np.stack([field(v + e * np.eye(3)[i]) - field(v - e * np.eye(3)[i]) for i in range(3)], -1)
    normals /= np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-9)
    face = np.cross(v[f[:, 1]] - v[f[:, 0]], v[f[:, 2]] - v[f[:, 0]])
    if np.mean(np.sum(face * normals[f[:, 0]], axis=1)) < 0:
        f = f[:, ::-1]
    return v, normals, f


def weights_of(parts, bones, p, triangles, soft=0.022, most=4, rounds=10):
    """Skin weights (V, most) with bone slots: from the distances to each bone's own volumes, then evened out along the surface, so that
    strong bends neither crease nor ring. ``rounds``: how often every vertex takes half of its neighbours' mean.
    """
    near = np.full((len(p), len(bones)), 1e3)
    for part in parts:
        b = bones.index(part.bone)
        near[:, b] = np.minimum(near[:, b], part.distance(p))
    w = np.exp(-(near - near.min(axis=1, keepdims=True)) / soft)
    w /= w.sum(axis=1, keepdims=True)
    ends = np.concatenate([triangles[:, :2], triangles[:, 1:], triangles[:, ::2]])
    ends = np.unique(np.sort(ends, axis=1), axis=0)
    count = np.bincount(ends.reshape(-1), minlength=len(p))[:, None]
    for _ in range(rounds):
        around = np.zeros_like(w)
        np.add.at(around, ends[:, 0], w[ends[:, 1]])
        np.add.at(around, ends[:, 1], w[ends[:, 0]])
        w = 0.5 * w + 0.5 * np.where(count > 0, around / np.maximum(count, 1), w)
    slots = np.argsort(-w, axis=1)[:, :most]
    w = np.take_along_axis(w, slots, axis=1)
    w[w < 0.02] = 0.0
    return slots, w / w.sum(axis=1, keepdims=True)
