"""Commands that bring things and strands into a scene, and what all commands share."""

import sys
from collections.abc import Callable
from pathlib import Path
from typing import Annotated

import typer
from rich.console import Console
from rich.progress import BarColumn, Progress, TextColumn, TimeRemainingColumn

from artuline.core.errors import ArtulineError

SceneArgument = Annotated[Path, typer.Argument(metavar="SCENE", help="A scene file (.artuline).", show_default=False)]
#: Where errors and progress are written.
errors = Console(stderr=True, highlight=False, soft_wrap=True)


def with_progress(words: str, work: Callable[[Callable[[int, int], None]], object]):
    """Run work with a progress bar on a terminal, silently otherwise."""
    if not sys.stderr.isatty():
        return work(lambda done, total: None)
    with Progress(TextColumn(words), BarColumn(), TimeRemainingColumn(), console=errors, transient=True) as bar:
        task = bar.add_task(words, total=None)
        return work(lambda done, total: bar.update(task, completed=done, total=total))


def solver_ready() -> None:
    """See to it that the solver is compiled: once for a machine, in a process of its own."""
    from artuline.core import kernel_cache
    from artuline.core.run.prepare import ensure_kernels, kernels_ready

    if kernel_cache.in_temporary:
        errors.print(
            "artuline: there is no cache folder to write to: the solver is kept among temporary files", markup=False
        )
    if not kernels_ready():
        with_progress("Preparing the solver, once", lambda tick: ensure_kernels(tick))


def hold(
    scene: SceneArgument,
    thing: Annotated[
        Path,
        typer.Argument(metavar="THING", help="A file of meshes (.glb, .gltf, .obj, .stl, .ply).", show_default=False),
    ],
    hand: Annotated[str, typer.Option("--in", metavar="BONE", help="The bone that holds it, or FIGURE:BONE.")],
    output: Annotated[
        Path | None, typer.Option("--output", "-o", metavar="SCENE", help="Another scene file to write.")
    ] = None,
    at: Annotated[int | None, typer.Option(help="From this frame on; the first if not given.")] = None,
    until: Annotated[int | None, typer.Option(help="Let go at this frame; then it falls or flies on.")] = None,
    way: Annotated[str, typer.Option(help="How it is carried: handle, palm or hip.")] = "handle",
    hang: Annotated[
        list[str] | None,
        typer.Option(
            "--hang", metavar="PART=ON", help="Hang a part on another one by a hinge; may be given several times."
        ),
    ] = None,
    mass: Annotated[list[str] | None, typer.Option("--mass", metavar="PART=KG", help="What a part weighs.")] = None,
) -> None:
    """Bring a thing of several parts into a scene and put it into a hand."""
    from artuline.core.scene.assets import AssetStore
    from artuline.formats.holding import hold_thing
    from artuline.formats.scene_file import load_scene, save_scene

    assets = AssetStore()
    loaded = load_scene(scene, assets)
    solver_ready()
    pairs = [_pair(text) for text in hang or []]
    masses = {part: number_of(amount, text) for text in mass or [] for part, amount in [_pair(text)]}
    made, notes = hold_thing(loaded, assets, thing, hand, at, until, way, pairs, masses)
    save_scene(output or scene, made, assets)
    for note in notes:
        typer.echo(note)
    typer.echo(f"Saved {output or scene}")


def strand(
    scene: SceneArgument,
    point: Annotated[
        list[str],
        typer.Option(
            "--point",
            metavar="X,Y,Z[@HOLDER]",
            help="A point in metres; @FIGURE:BONE or @world holds it. Or a bone alone.",
            show_default=False,
        ),
    ],
    kind: Annotated[str, typer.Option(help="rope, cable, tail or beads.")] = "rope",
    name: Annotated[str, typer.Option(help="What it is called.", show_default=False)] = "",
    output: Annotated[
        Path | None, typer.Option("--output", "-o", metavar="SCENE", help="Another scene file to write.")
    ] = None,
    closed: Annotated[bool, typer.Option("--closed", help="Round again to the first point.")] = False,
    parts: Annotated[int | None, typer.Option(help="How many bodies.", min=2, max=1000)] = None,
    radius: Annotated[float | None, typer.Option(help="Metres.", min=1e-4, max=10.0)] = None,
    weight: Annotated[float | None, typer.Option(help="Kilograms a metre.", min=1e-5, max=1e5)] = None,
    bend: Annotated[
        float | None, typer.Option(help="Hz at which a metre of it would swing, held at one end.", min=0.0, max=1000.0)
    ] = None,
    slack: Annotated[float, typer.Option(help="Share by which it is longer than its line.", min=0.0, max=4.0)] = 0.0,
    hang: Annotated[bool, typer.Option("--hang", help="Begin as it hangs.")] = False,
    skin: Annotated[
        list[str] | None, typer.Option("--skin", metavar="FIGURE", help="Strands touch this figure's skin.")
    ] = None,
    release: Annotated[int, typer.Option(help="Release it so many times.", min=0, max=1000)] = 0,
    start: Annotated[int | None, typer.Option("--from", help="Frame of the first release.")] = None,
    every: Annotated[float, typer.Option(help="Frames between two.", min=1.0)] = 12.0,
    scatter: Annotated[float, typer.Option(help="Metres by which each is moved by chance.", min=0.0, max=1000.0)] = 0.0,
    seed: Annotated[int, typer.Option(help="Of the chance.", min=0)] = 0,
) -> None:
    """Add a rope, cable, tail or beads to a scene, or many that are let go one after the other."""
    from artuline.core.scene.assets import AssetStore
    from artuline.core.setup.strand_kinds import about_seconds, released
    from artuline.core.setup.strand_words import strand_of
    from artuline.formats.scene_file import load_scene, save_scene

    assets = AssetStore()
    loaded = load_scene(scene, assets)
    fields = {
        "count": parts,
        "radius": radius,
        "weight": weight,
        "bend": bend,
        "slack": slack,
        "hangs": hang,
        "closed": closed,
    }
    values = {n: v for n, v in fields.items() if v is not None}
    made, id_ = strand_of(loaded, assets, kind, point, name, tuple(skin or ()), **values)
    if release:
        made = released(made, assets, id_, release, float(made.start if start is None else start), every, scatter, seed)
    save_scene(output or scene, made, assets)
    count = len(made.figure(id_).bones)
    typer.echo(f"{max(release, 1)} x {count} parts; a run takes about {about_seconds(made):.0f} s")
    typer.echo(f"Saved {output or scene}")


def _pair(text: str) -> tuple[str, str]:
    left, equals, right = text.partition("=")
    if not (equals and left and right):
        raise ArtulineError(f"{text!r} is no pair", remedy="Write it like pail=bail")
    return left.strip(), right.strip()


def number_of(text: str, whole: str) -> float:
    """A number from words; ``whole``: what it is part of. Raises ArtulineError."""
    try:
        return float(text)
    except ValueError:
        raise ArtulineError(f"{whole!r} has no number", remedy="Write it like substeps=20") from None
