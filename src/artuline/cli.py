"""The same work without a window."""

import os
import sys
import time
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from artuline import __version__
from artuline.cli_files import (
    BlendOption,
    RestBeforeOption,
    RestOption,
    export,
    figure_named,
    flesh,
    keys,
    limbs,
    motion,
    salvage,
    soft,
    table,
)
from artuline.cli_live import steer
from artuline.cli_things import SceneArgument, errors, hold, number_of, solver_ready, strand, with_progress
from artuline.core.errors import ArtulineError

if TYPE_CHECKING:
    from artuline.core.scene.model import Scene

COMMANDS = (
    "demo",
    "setup",
    "hold",
    "strand",
    "steer",
    "run",
    "bake",
    "export",
    "salvage",
    "motion",
    "keys",
    "limbs",
    "flesh",
    "soft",
    "table",
    "cache",
    "check",
    "picture",
    "prepare",
    "integrate",
)

app = typer.Typer(
    add_completion=False,
    no_args_is_help=False,
    rich_markup_mode=None,
    pretty_exceptions_enable=False,
    help="Artuline: hand a figure over to physics on an interval and get editable keys back.",
)

ClosingOption = Annotated[
    Path | None,
    typer.Option(
        "--picture-and-close", metavar="PNG", help="Save the window's first picture to this file, then close."
    ),
]


@app.command(name="open", hidden=True)
def open_scene(
    scene: Annotated[
        Path | None, typer.Argument(metavar="[SCENE]", help="A scene file or a figure (.glb, .gltf, .usd, .bvh).")
    ] = None,
    closing: ClosingOption = None,
) -> None:
    """Open the window."""
    from artuline.desk.application import start

    raise typer.Exit(start(path=scene, picture=closing))


@app.command()
def demo(
    name: Annotated[str, typer.Argument(help="Which demo scene.")] = "boom",
    listing: Annotated[bool, typer.Option("--list", help="Name the demo scenes.")] = False,
    save: Annotated[
        Path | None,
        typer.Option("--save", metavar="SCENE", help="Write the scene to a file instead of opening it."),
    ] = None,
    closing: ClosingOption = None,
) -> None:
    """Open a demo scene in the window, or save one."""
    from artuline.core.scene.assets import AssetStore
    from artuline.demo.scenes import DEMOS, demo_scene
    from artuline.formats.scene_file import save_scene

    if listing:
        for d in DEMOS.values():
            typer.echo(f"{d.name:10} {d.about}")
        return
    if save is not None:
        solver_ready()
        assets = AssetStore()
        save_scene(save, demo_scene(name, assets), assets)
        typer.echo(f"Saved {save}")
        return
    if name not in DEMOS:
        demo_scene(name, AssetStore())
    solver_ready()
    from artuline.desk.application import start

    raise typer.Exit(start(demo=name, picture=closing))


@app.command()
def setup(
    figure: Annotated[
        Path, typer.Argument(metavar="FIGURE", help="A figure (.glb, .gltf, .usd, .bvh).", show_default=False)
    ],
    output: Annotated[Path, typer.Option("--output", "-o", metavar="SCENE", help="The scene file to write.")],
    clip: Annotated[str | None, typer.Option(help="Which clip plays; the first if not given.")] = None,
    start: Annotated[int | None, typer.Option(help="First frame handed over to physics.")] = None,
    end: Annotated[int | None, typer.Option(help="Frame at which the figure is back on its keys.")] = None,
    bone: Annotated[str | None, typer.Option(help="Hand over this bone and all below it only.")] = None,
    tone: Annotated[float, typer.Option(min=0.0, max=1.0, help="How firmly the keys are followed.")] = 0.0,
    kind: Annotated[str, typer.Option(help="Shapes: best, capsule, sphere, box or hull.")] = "best",
    use: Annotated[
        str | None,
        typer.Option(
            "--use", metavar="SETUP", help="A setup file, or one of: two legs, four legs, chain; instead of fitting."
        ),
    ] = None,
    mass: Annotated[
        float | None, typer.Option(metavar="KG", help="Spread this mass; 0: what is usual for its size.")
    ] = None,
    limits: Annotated[str | None, typer.Option(help="Ranges from clips, anatomy or both.")] = None,
    save_setup: Annotated[Path | None, typer.Option(metavar="FILE", help="Write the setup as well (.artuset).")] = None,
    keyed: Annotated[bool, typer.Option("--keyed", help="Hand nothing over: all stays on its keys.")] = False,
) -> None:
    """Make a scene from a figure: bodies, joints with limits, and an interval of physics."""
    from artuline.core.scene import edit
    from artuline.core.scene.assets import AssetStore
    from artuline.core.scene.model import Scene
    from artuline.core.setup.coverage import left_out
    from artuline.core.setup.joints import clip_rotations
    from artuline.core.setup.limits import SOURCES, propose_limits
    from artuline.core.setup.materials import balance, usual_mass
    from artuline.core.setup.patch_fit import KINDS, FitChoice
    from artuline.core.setup.ragdoll import set_up
    from artuline.core.setup.setups import put_setup, setup_mapping, take_setup
    from artuline.core.setup.skin import cached_skin
    from artuline.formats import setup_file
    from artuline.formats.importing import add_figure, choose_clip
    from artuline.formats.scene_file import save_scene

    assets = AssetStore()
    solver_ready()
    scene, added, notes = add_figure(Scene(name=figure.stem), assets, figure)
    if clip is not None:
        scene = choose_clip(scene, added.id, clip)
    if kind not in KINDS[:-1]:
        raise ArtulineError(f"there is no kind of shape {kind!r}", remedy=f"Choose one of: {', '.join(KINDS[:-1])}.")
    if limits is not None and limits not in SOURCES:
        raise ArtulineError(f"limits cannot come from {limits!r}", remedy=f"Choose one of: {', '.join(SOURCES)}.")
    bare = scene.figure(added.id)
    if use is not None:
        ready = setup_file.ready_setup(use) if use in setup_file.READY else setup_file.load_setup(use)
        found = setup_mapping(ready, bare)
        made = put_setup(ready, bare, {b: target for b, (target, _) in found.items()})
        for b in ready.bones:
            target, why = found.get(b.name, ("-", "left out: not found"))
            typer.echo(f"{b.name:20} {target:20} {why}")
    else:
        made = set_up(bare, assets, choice=FitChoice(kind))
    if limits is not None:
        motion = clip_rotations(made, assets)
        made = made.changed(joints=tuple(propose_limits(made, j, motion, limits) for j in made.joints))
    if mass is not None:
        total = mass if mass > 0.0 else usual_mass(made, assets)[0]
        if not total > 0.0:
            raise ArtulineError(f"the mass {mass:g} kg cannot be spread", remedy="Give a mass above zero.")
        made = made.changed(bodies=balance(made, total)[0])
    scene = edit.ragdoll(scene, made)
    if bone is not None and bone not in made.bone_index:
        raise ArtulineError(f"{made.name} has no bone {bone!r}", remedy=_close(bone, list(made.bone_index)))
    if keyed:
        said = "all on its keys"
    else:
        first, last = _interval(scene, start, end)
        scene = edit.hand_over(scene, added.id, bone, first, last, ramp_out=edit.usual_ramp(first, last), tone=tone)
        said = f"physics from frame {first:g} to {last:g}"
    save_scene(output, scene, assets)
    if save_setup is not None:
        setup_file.save_setup(save_setup, take_setup(scene, scene.figure(added.id)))
    for note in notes:
        typer.echo(note)
    for x in left_out(made, cached_skin(made, assets).share) if made.asset is not None else ():
        typer.echo(
            f"No body of {'its' if len(x.bones) == 1 else 'their'} own ({100 * x.share:.1f} % of the skin), with {x.carrier}: {', '.join(x.bones)}"
        )
    typer.echo(f"Saved {output}: {len(made.bodies)} bodies, {len(made.joints)} joints, {said}")


def _interval(scene: "Scene", start: int | None, end: int | None) -> tuple[float, float]:
    """The frames from which and until which physics acts: as given, the other as is usual, or as the scene's range is. Raises ArtulineError."""
    from artuline.core.scene import edit

    first, last = edit.usual_interval(scene)
    if end is not None:
        last = float(end)
        first = min(first, float(scene.start)) if start is None and last <= first else first
    if start is not None:
        first = float(start)
        last = max(last, float(scene.end)) if end is None and last <= first else last
    if not scene.start <= first < last:
        given = " and ".join(f"--{n} {v}" for n, v in (("start", start), ("end", end)) if v is not None)
        raise ArtulineError(
            f"the interval from frame {first:g} to {last:g} is empty ({given or 'from the range of the clip'})",
            remedy=f"Frames run from {scene.start} to {scene.end}: give a --start below --end within them.",
        )
    return first, last


def _close(name: str, names: list[str]) -> str:
    import difflib

    near = difflib.get_close_matches(name, names, n=3, cutoff=0.4)
    return f"Did you mean {', '.join(near)}?" if near else f"It has: {', '.join(names[:12])}."


app.command()(hold)
app.command()(strand)
app.command()(export)
app.command()(salvage)
app.command()(motion)
app.command()(keys)
app.command()(limbs)
app.command()(flesh)
app.command()(soft)
app.command()(table)
app.command()(steer)


@app.command()
def run(
    scene: SceneArgument,
    settings: Annotated[
        list[str] | None,
        typer.Option("--set", metavar="PATH=VALUE", help="Change a setting for this run; may be given several times."),
    ] = None,
    bracket: Annotated[
        list[str] | None,
        typer.Option(
            "--bracket",
            metavar="PATH=FROM:TO:N",
            help="Run N values of a setting side by side; once or twice. N:log for equal ratios.",
        ),
    ] = None,
    output: Annotated[
        Path | None, typer.Option("--output", "-o", metavar="TABLE", help="Where a bracket's table goes (.csv, .json).")
    ] = None,
    list_paths: Annotated[bool, typer.Option("--paths", help="List the settings that are numbers, and end.")] = False,
) -> None:
    """Simulate a scene's range and keep the result in it as a take; or run a bracket and print its table."""
    from artuline.core.run.record import keep_take
    from artuline.core.run.record import run as simulate
    from artuline.core.scene import paths
    from artuline.core.scene.assets import AssetStore
    from artuline.formats.scene_file import load_scene, save_scene

    assets = AssetStore()
    loaded = load_scene(scene, assets)
    if not list_paths:
        solver_ready()
    if list_paths:
        for name, value in paths.numbers(loaded):
            typer.echo(f"{name} = {value:g}")
        return
    for text in settings or []:
        path, _, number = text.rpartition("=")
        loaded = paths.put(loaded, path, number_of(number, text))
    if bracket:
        _bracket(loaded, assets, bracket, output)
        return
    began = time.perf_counter()
    take = with_progress("Simulating", lambda tick: simulate(loaded, assets, tick))
    seconds = time.perf_counter() - began
    kept = keep_take(loaded, assets, take, loaded.settings_fingerprint())
    save_scene(scene, kept, assets)
    typer.echo(f"{kept.take}: {len(take.frames)} frames in {seconds:.2f} s, saved in {scene}")
    for words, values, names, scale, unit in (
        ("worst penetration", take.penetration, take.bodies, 1000.0, "mm"),
        ("joint separation", take.separation, take.joints, 1000.0, "mm"),
        ("limit excess", take.excess, take.joints, 57.29578, "°"),
    ):
        if not values.size or not values.max() > 0.0:
            continue
        row, k = divmod(int(values.argmax()), values.shape[1])
        amount = f"{scale * values[row, k]:.3g} {unit}".replace(" °", "°")
        typer.echo(f"{words} {amount}: {loaded.words(names[k])} at frame {take.frames[row]}")
    for f, layer in loaded.not_followed:
        typer.echo(f"The run went by the keys below the layer {layer.name} of {f.name}, which physics does not follow.")


def _bracket(scene, assets, texts: list[str], output: Path | None) -> None:  # type: ignore[no-untyped-def]
    from artuline.core.run.bracket import Span, run_bracket
    from artuline.core.run.measures import UNITS
    from artuline.formats.table import write_table

    spans = []
    for text in texts:
        path, _, numbers = text.rpartition("=")
        parts = numbers.split(":")
        if len(parts) not in (3, 4) or not parts[2].isdigit() or parts[3:] not in ([], ["log"]):
            raise ArtulineError(
                f"{text!r} is no bracket", remedy="Write it like substeps=5:40:8, or with :log at its end."
            )
        spans.append(Span(path, number_of(parts[0], text), number_of(parts[1], text), int(parts[2]), bool(parts[3:])))
    done = with_progress("Runs", lambda tick: sorted(run_bracket(scene, assets, spans, tick), key=lambda x: x[0]))
    names = [s.path for s in spans] + [f"{n} ({u})" for n, u in UNITS.items()]
    rows = [[*cell.values, *(cell.measures[n] for n in UNITS)] for _, cell in done]
    if output is not None:
        write_table(output, names, rows)
        typer.echo(f"Saved {output}: {len(rows)} runs")
        return
    typer.echo("  ".join(names))
    for row in rows:
        typer.echo("  ".join(f"{v:{max(len(n), 6)}.4g}" for n, v in zip(names, row)))


@app.command()
def bake(
    scene: SceneArgument,
    output: Annotated[Path, typer.Option("--output", "-o", metavar="OUT.glb", help="The file to write.")],
    degrees: Annotated[float, typer.Option(help="Largest error of a bone, in degrees.")] = 1.0,
    millimetres: Annotated[float, typer.Option(help="Largest error at the ends of the limbs.")] = 10.0,
    figure: Annotated[
        list[str] | None,
        typer.Option("--figure", metavar="NAME", help="Only this one; may be given several times. All if not given."),
    ] = None,
    together: Annotated[bool, typer.Option("--together", help="All figures in one file.")] = False,
    rest: RestOption = False,
    rest_before: RestBeforeOption = False,
    blend: BlendOption = 1,
    start: Annotated[int | None, typer.Option("--from", help="Only from this frame on.")] = None,
    end: Annotated[int | None, typer.Option("--to", help="Only up to this frame.")] = None,
    step: Annotated[int, typer.Option(help="Keys on every so many frames.", min=1, max=100)] = 1,
    bones: Annotated[bool, typer.Option("--bones", help="Onto bones also where limbs have goals.")] = False,
    free: Annotated[bool, typer.Option("--free", help="Free between frames: fewer keys.")] = False,
    shared: Annotated[
        bool, typer.Option("--shared", help="Turn and place of a bone have keys at the same times.")
    ] = False,
) -> None:
    """Turn a scene's take into keys and write the figures with the baked animation."""
    from artuline.core.bake.bake import BakeWish
    from artuline.core.bake.delivery import bake_take
    from artuline.core.bake.merged import Rests
    from artuline.core.scene.assets import AssetStore
    from artuline.formats.all import format_of
    from artuline.formats.deliver import deliver
    from artuline.formats.scene_file import load_scene

    format_of(output, "write")
    wish = BakeWish(
        degrees, millimetres, start=start, end=end, step=step, goals=not bones, between=not free, shared=shared
    )
    assets = AssetStore()
    loaded = load_scene(scene, assets)
    wanted = [figure_named(loaded, name) for name in figure or ()]
    made, baked = with_progress("Fitting keys", lambda tick: bake_take(loaded, assets, wish, tick, wanted))
    written = deliver(output, made, assets, list(baked), together, Rests(rest_before, rest, blend))
    for figure, result in baked.items():
        typer.echo(f"{made.figure(figure).name}: {result.summary()}")
    for path in written:
        typer.echo(f"Saved {path}")


@app.command()
def cache(
    scene: SceneArgument,
    output: Annotated[
        Path, typer.Option("--output", "-o", metavar="OUT.obj", help="Files OUT.0000.obj and on are written.")
    ],
    figure: Annotated[
        list[str] | None, typer.Option("--figure", metavar="NAME", help="Only this figure; may be given several times.")
    ] = None,
) -> None:
    """Write the geometry of every frame as a sequence of OBJ files, strands as lines too."""
    from artuline.core.scene.assets import AssetStore
    from artuline.formats.obj_sequence import write_sequence
    from artuline.formats.scene_file import load_scene

    assets = AssetStore()
    loaded = load_scene(scene, assets)
    ids = None
    for name in figure or ():
        found = next((f for f in loaded.cast if name in (f.name, f.id)), None)
        if found is None:
            raise ArtulineError(f"there is no figure {name!r}", remedy=_close(name, [f.name for f in loaded.cast]))
        ids = [*(ids or ()), found.id]
    written = with_progress("Writing frames", lambda tick: write_sequence(output, loaded, assets, ids, tick))
    typer.echo(f"Saved {len(written)} files, {written[0].name} to {written[-1].name}")


@app.command()
def check(
    scene: SceneArgument,
    take: Annotated[
        bool, typer.Option("--take", help="The worst moments of the scene's take, the most serious first.")
    ] = False,
) -> None:
    """List the scene's problems, one a line, the worst first. Exit code 1 if one stops the work."""
    from artuline.core.checks.checks import check as find
    from artuline.core.checks.takes import check_take
    from artuline.core.run.measures import worst_moments
    from artuline.core.run.take_now import take_in
    from artuline.core.scene.assets import AssetStore
    from artuline.formats.scene_file import load_scene

    assets = AssetStore()
    loaded = load_scene(scene, assets)
    ref = loaded.active_take()
    if take:
        if ref is None:
            raise ArtulineError("the scene has no take", place=str(scene), remedy="Run it first: artuline run SCENE.")
        moments = worst_moments(loaded, take_in(loaded, assets, ref))
        for m in moments:
            typer.echo(f"{m.name:16} {m.text:>10}  frame {m.frame:<5} {m.place}")
        if not moments:
            typer.echo("No moment needs a look")
        return
    solver_ready()
    found = find(loaded, assets)
    if ref is not None:
        found += check_take(loaded, take_in(loaded, assets, ref))
    words = {3: "stops", 2: "spoils", 1: "note"}
    for f in found:
        ways = " / ".join(x for x in (f.fix_label, *(label for label, _ in f.more)) if x)
        typer.echo(f"{words[f.weight]:7} {f.text}" + (f" [fix: {ways}]" if ways else ""))
    if not found:
        typer.echo("No problems found")
    if any(f.weight == 3 for f in found):
        raise typer.Exit(1)


@app.command()
def picture(
    scene: SceneArgument,
    output: Annotated[Path, typer.Option("--output", "-o", metavar="OUT.png", help="The picture to write.")],
    frame: Annotated[int, typer.Option(help="Which frame.")] = 0,
    size: Annotated[str, typer.Option(metavar="WxH", help="Width and height in pixels.")] = "1280x800",
    shapes: Annotated[bool, typer.Option(help="Show the collision shapes through the skin.")] = False,
    echo: Annotated[bool, typer.Option(help="Show the keyed motion beside the take.")] = False,
) -> None:
    """Draw the stage at a frame, with no display."""
    from artuline.core.run.take_now import take_in
    from artuline.core.scene.assets import AssetStore
    from artuline.formats.scene_file import load_scene
    from artuline.view.pictures import save_picture
    from artuline.view.stage import Show

    try:
        width, height = (int(n) for n in size.lower().split("x"))
    except ValueError:
        raise ArtulineError(f"the size {size!r} is not WxH", remedy="Give for example 1280x800.") from None
    if not (16 <= width <= 8192 and 16 <= height <= 8192):
        raise ArtulineError(f"the size {size!r} is out of bounds", remedy="Use 16 to 8192 pixels.")
    assets = AssetStore()
    loaded = load_scene(scene, assets)
    ref = loaded.active_take()
    take = take_in(loaded, assets, ref) if ref else None
    show = Show(shapes=shapes, see_through=shapes, echo=echo)
    save_picture(output, loaded, assets, frame, take, show, width, height)
    typer.echo(f"Saved {output}")


@app.command()
def integrate(
    remove: Annotated[bool, typer.Option("--remove", help="Take it all away again.")] = False,
) -> None:
    """Put the program into the desktop's menus for this user, with its icon and its file type; or take it away again."""
    from importlib.resources import files

    from artuline.formats.integration import install, uninstall

    if remove:
        gone = uninstall()
        typer.echo(f"Removed {len(gone)} files" if gone else "Nothing was there")
        return
    icon = files("artuline.desk").joinpath("artuline.png").read_bytes()
    for path in install(icon):
        typer.echo(f"Wrote {path}")


@app.command()
def prepare() -> None:
    """Compile the solver's kernels ahead, so that the first run does not wait for them."""
    from artuline.core.run.prepare import prepare_kernels

    began = time.perf_counter()
    prepare_kernels()
    typer.echo(f"Kernels ready after {time.perf_counter() - began:.1f} s")


def main() -> None:
    """Entry point: a first word that is no command is a scene to open."""
    _open_streams()
    try:
        _main()
        sys.stdout.flush()
    except ArtulineError as error:
        _complain(str(error))
        sys.exit(2)
    except KeyboardInterrupt:
        _complain("stopped")
        sys.exit(130)
    except BrokenPipeError:
        # whoever read it has seen enough
        _drop_output()
        sys.exit(0)
    except OSError as error:
        _complain(f"what is to be said cannot be written ({(error.strerror or str(error)).lower()})")
        _drop_output()
        sys.exit(2)


def _main() -> None:
    arguments = sys.argv[1:]
    if arguments and arguments[0] == "--version":
        typer.echo(__version__)
        return
    if not arguments or arguments[0] not in (*COMMANDS, "open", "--help", "-h"):
        arguments = ["open", *arguments]
    try:
        app(arguments, prog_name="artuline", standalone_mode=True)
    except SystemExit as end:
        sys.stdout.flush()
        raise end


def _open_streams() -> None:
    """Open what was closed at the start: or else the first file that is opened would take what is said for its own."""
    for number in range(3):
        try:
            os.fstat(number)
        except OSError:
            os.open(os.devnull, os.O_RDWR)
    sys.stdout = sys.stdout or open(1, "w", closefd=False)  # noqa: SIM115
    sys.stderr = sys.stderr or open(2, "w", closefd=False)  # noqa: SIM115
    errors.file = sys.stderr


def _complain(words: str) -> None:
    with suppress(OSError):
        errors.print(f"artuline: {words}", markup=False)
        sys.stderr.flush()


def _drop_output() -> None:
    """Let what cannot be written go, so that the end of the program does not try once more."""
    os.dup2(os.open(os.devnull, os.O_WRONLY), 1)


if __name__ == "__main__":
    main()
