"""The command that steers a figure without a window."""

from pathlib import Path
from typing import Annotated

import typer

from artuline.cli_things import SceneArgument, solver_ready, with_progress
from artuline.core.errors import ArtulineError


def steer(
    scene: SceneArgument,
    words: Annotated[
        str,
        typer.Argument(
            metavar="WORDS",
            help="What it does, as in 'walk:3 left:1.5 run:2 hit=200:6 mirror:2 stand:1'.",
            show_default=False,
        ),
    ] = "",
    figure: Annotated[
        str | None, typer.Option("--figure", "-f", metavar="ID", help="The figure; the first with clips if not given.")
    ] = None,
    seconds: Annotated[float, typer.Option("--keep", metavar="SECONDS", help="How much of the end is kept.")] = 60.0,
    output: Annotated[
        Path | None,
        typer.Option("--output", "-o", metavar="SCENE", help="Where the result goes; the scene itself if not given."),
    ] = None,
    again: Annotated[
        bool, typer.Option("--again", help="Do once more what was done for the current take, and compare.")
    ] = False,
) -> None:
    """Steer a figure over the ground by words; what it does is kept as clips and a take."""
    from artuline.core.run.directed import direct, words_of
    from artuline.core.run.kept import Watcher, keep
    from artuline.core.run.steered import Steered
    from artuline.core.scene.assets import AssetStore
    from artuline.formats.scene_file import load_scene, save_scene

    assets = AssetStore()
    loaded = load_scene(scene, assets)
    if again:
        _again(loaded, assets)
        return
    todo = words_of(words)
    solver_ready()
    ids = [f.id for f in loaded.cast if f.clips and f.bodies]
    if not ids:
        raise ArtulineError(
            "no figure has clips and bodies", place=str(scene), remedy="Fit bodies to one that has clips first."
        )
    which = figure if figure is not None else ids[0]
    if which not in ids:
        raise ArtulineError(
            f"{which!r} cannot be steered", place=str(scene), remedy=f"Choose one of: {', '.join(ids)}."
        )
    figures = {which: loaded.figure(which).steering}
    figures |= {f.id: f.steering for f in loaded.figures if f.steering is not None and f.steering.follows in figures}
    made = Steered(loaded, assets, float(loaded.start), figures)
    watcher, total = Watcher(made), round(sum(w.seconds for w in todo) / made.step_time)
    with_progress("Steering", lambda tick: direct(made, which, todo, lambda: tick(made.steps_done, total)))
    kept = keep(watcher, loaded, seconds)
    save_scene(output or scene, kept, assets)
    typer.echo(f"{kept.take}: frames {kept.start} to {kept.end}, saved in {output or scene}")


def _again(loaded, assets) -> None:  # type: ignore[no-untyped-def]
    """Steer the current take once more, and say whether it is the same."""
    from artuline.core.run.kept import again, same

    ref = loaded.active_take()
    if ref is None:
        raise ArtulineError("the scene has no take", remedy="Steer first.")
    solver_ready()
    watcher = with_progress("Steering again", lambda tick: again(ref, assets, tick))
    typer.echo(f"{ref.name}: {'the same to the bit' if same(watcher, ref, assets) else 'it differs'}")
