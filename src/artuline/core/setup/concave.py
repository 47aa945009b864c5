"""Concave parts of a skin as several convex hulls, found in a process of their own so that it can be ended."""

import multiprocessing
from collections.abc import Callable
from multiprocessing.connection import Connection

import numpy as np

from artuline.core.errors import ArtulineError, CancelledError
from artuline.core.geometry import rotation
from artuline.core.geometry.rotation import Array
from artuline.core.motion.skeleton import rest_matrices, rigid
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.mesh import Mesh
from artuline.core.scene.model import Body, Figure, Shape
from artuline.core.setup.patch_fit import UNDER, hull_shape
from artuline.core.setup.skin import divide_among

CONCAVITY = 0.08  # share of the part's size that hulls may deviate by
MOST_HULLS = 8


def hull_groups(
    figure: Figure,
    assets: AssetStore,
    bones: set[str],
    progress: Callable[[int, int], None] = lambda done, total: None,
    cancelled: Callable[[], bool] = lambda: False,
    concavity: float = CONCAVITY,
) -> dict[str, tuple[Shape, ...]]:
    """Several convex hulls for the skin of each bone, in the bone's frame.

    Raises CancelledError on request, ArtulineError where there is no skin. Slow: seconds for each bone.
    """
    if figure.asset is None:
        raise ArtulineError(f"figure {figure.name!r} has no mesh", remedy="Choose a figure with skin.")
    mesh = Mesh.from_arrays(assets[figure.asset])
    points = mesh.skin(rest_matrices(figure))
    parts = divide_among(figure, mesh, points, {b.bone for b in figure.bodies} | bones)
    p, q = rigid(rest_matrices(figure))
    found: dict[str, tuple[Shape, ...]] = {}
    for done, name in enumerate(sorted(bones)):
        progress(done, len(bones))
        b = figure.bone_index[name]
        mine = mesh.triangles[(parts.owner[mesh.triangles] == b).sum(axis=1) >= 2]
        if not len(mine):
            raise ArtulineError(f"the bone {name!r} carries no skin", remedy="Choose a bone with skin.")
        local = rotation.rotate(rotation.conjugate(q[b]), points - p[b])
        found[name] = tuple(hull_shape(v, UNDER) for v in convex_parts(local, mine, cancelled, concavity))
    return found


def convex_parts(
    vertices: Array, triangles: np.ndarray, cancelled: Callable[[], bool] = lambda: False, concavity: float = CONCAVITY
) -> list[Array]:
    """Corners (N, 3) of the convex parts of a mesh, by approximate decomposition (Wei et al. 2022, CoACD).

    Raises CancelledError on request, ArtulineError if it fails.
    """
    used, corner = np.unique(triangles, return_inverse=True)
    context = multiprocessing.get_context("spawn")
    pipe, theirs = context.Pipe(duplex=False)
    given = vertices[used], corner.reshape(-1, 3), concavity
    worker = context.Process(target=_decompose, args=(theirs, *given), daemon=True)
    worker.start()
    theirs.close()
    try:
        while not pipe.poll(0.05):
            if cancelled():
                raise CancelledError
        found: list[Array] = pipe.recv()
    except EOFError:
        found = []
    finally:
        worker.kill()
        worker.join()
        pipe.close()
    if not found:
        raise ArtulineError("the skin could not be divided into convex parts", remedy="Use one hull or a box.")
    return found


def _decompose(pipe: Connection, vertices: Array, triangles: np.ndarray, concavity: float) -> None:
    import coacd

    coacd.set_log_level("off")
    mesh = coacd.Mesh(vertices, triangles)
    parts = coacd.run_coacd(mesh, threshold=concavity, max_convex_hull=MOST_HULLS, mcts_iterations=60, seed=1)
    pipe.send([v for v, _ in parts if len(v) >= 4])


def with_hull_groups(bodies: tuple[Body, ...], groups: dict[str, tuple[Shape, ...]]) -> tuple[Body, ...]:
    """The bodies, those on the bones of ``groups`` with these shapes."""
    return tuple(b.changed(shapes=groups[b.bone], by_hand=False) if b.bone in groups else b for b in bodies)
