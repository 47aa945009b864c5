"""What goes in and out by the command line: exports, movies, motion and keys from files."""

from pathlib import Path
from typing import Annotated, Literal

import numpy as np
import typer
from numpy.typing import NDArray

from artuline.cli_things import SceneArgument, with_progress
from artuline.core.errors import ArtulineError

FigureOption = Annotated[
    str | None, typer.Option("--figure", metavar="NAME", help="Which figure; the first if not given.")
]
RestOption = Annotated[bool, typer.Option("--rest", help="The rest pose after the end.")]
RestBeforeOption = Annotated[bool, typer.Option("--rest-before", help="The rest pose before the start.")]
BlendOption = Annotated[
    int, typer.Option("--blend", help="Frames between the rest pose and the motion.", min=1, max=1000)
]
OutputOption = Annotated[
    Path | None, typer.Option("--output", "-o", metavar="SCENE", help="Another scene file to write.")
]


def _loaded(scene: Path):  # type: ignore[no-untyped-def]
    from artuline.core.scene.assets import AssetStore
    from artuline.formats.scene_file import load_scene

    assets = AssetStore()
    return load_scene(scene, assets), assets


def figure_named(scene, name: str | None) -> str:  # type: ignore[no-untyped-def]
    """The id of a figure by its name. Raises ArtulineError."""
    found = next((f.id for f in scene.cast if name is None or name in (f.name, f.id)), None)
    if found is None:
        raise ArtulineError(f"there is no figure {name!r}", remedy=f"It has: {', '.join(f.name for f in scene.cast)}.")
    return str(found)


def salvage(
    scene: SceneArgument,
    output: Annotated[Path, typer.Option("--output", "-o", metavar="SCENE", help="The scene file to write.")],
) -> None:
    """Write what can still be read of a damaged scene file to another one, and name what is missing."""
    from artuline.formats.salvage import salvage_scene
    from artuline.formats.scene_file import save_scene

    found = salvage_scene(scene)
    save_scene(output, found.scene, found.assets)
    for line in found.lost:
        typer.echo(f"Missing: {line}")
    typer.echo(f"Saved {output}" + ("" if found.lost else ", with all that it needs"))


def export(
    scene: SceneArgument,
    output: Annotated[
        Path,
        typer.Option(
            "--output",
            "-o",
            metavar="FILE",
            help="By its ending: .glb, .usda, .usdc, .bvh, .csv, .json, .mp4, .gif, .png, .obj.",
        ),
    ],
    figure: FigureOption = None,
    together: Annotated[
        bool, typer.Option("--together", help="All in one file; of one figure with what it holds and what holds it.")
    ] = False,
    which: Annotated[
        Literal["this", "held", "alike", "all"],
        typer.Option("--which", help="That figure, with what it holds, all alike, or all figures."),
    ] = "this",
    rest: RestOption = False,
    rest_before: RestBeforeOption = False,
    blend: BlendOption = 1,
    physics: Annotated[bool, typer.Option("--physics", help="With bodies and joints (.glb).")] = False,
    size: Annotated[str, typer.Option(metavar="WxH", help="Of a movie or pictures, in pixels.")] = "1280x720",
    start: Annotated[int | None, typer.Option("--from", help="First frame of a movie.")] = None,
    end: Annotated[int | None, typer.Option("--to", help="Last frame of a movie.")] = None,
    numbers: Annotated[bool, typer.Option("--numbers", help="Frame numbers burnt into a movie.")] = False,
    transparent: Annotated[bool, typer.Option("--transparent", help="PNG with nothing behind the figures.")] = False,
    keys: Annotated[
        bool, typer.Option("--keys", help="A movie of the keys with their layers, not of the take.")
    ] = False,
) -> None:
    """Write figures with their keys and layers, or the stage as a movie, in the format of the file's ending."""
    from artuline.core.bake.delivery import several
    from artuline.core.bake.merged import Rests
    from artuline.core.run.take_now import take_in
    from artuline.formats.deliver import deliver
    from artuline.formats.obj_sequence import write_sequence
    from artuline.view.movies import SUFFIXES, MovieWish, write_movie
    from artuline.view.stage import Show

    loaded, assets = _loaded(scene)
    suffix = output.suffix.lower()
    if suffix in SUFFIXES:
        try:
            width, height = (int(n) for n in size.lower().split("x"))
        except ValueError:
            raise ArtulineError(f"the size {size!r} is not WxH", remedy="Give for example 1280x720.") from None
        wish = MovieWish(width, height, start, end, numbers, transparent)
        ref = None if keys else loaded.active_take()
        take = take_in(loaded, assets, ref) if ref is not None else None
        written = with_progress(
            "Drawing", lambda tick: write_movie(output, loaded, assets, take, Show(), wish, progress=tick)
        )
    elif suffix == ".obj":
        written = with_progress("Writing frames", lambda tick: write_sequence(output, loaded, assets, None, tick))
    else:
        f = figure_named(loaded, figure)
        wanted = several(loaded, f, "held" if together and which == "this" else which)
        rests, one_file = Rests(rest_before, rest, blend), together and len(wanted) > 1
        written = with_progress(
            "Writing", lambda tick: deliver(output, loaded, assets, wanted, one_file, rests, physics, tick)
        )
    typer.echo(f"Saved {written[0]}" + (f" and {len(written) - 1} more" if len(written) > 1 else ""))


def motion(
    scene: SceneArgument,
    file: Annotated[Path, typer.Argument(metavar="FILE.bvh", help="The motion.", show_default=False)],
    figure: FigureOption = None,
    bone: Annotated[
        list[str] | None,
        typer.Option("--bone", metavar="JOINT=BONE", help="Which joint moves which bone; may be given several times."),
    ] = None,
    output: OutputOption = None,
) -> None:
    """Put the motion of a BVH file onto a figure, as a clip; joints go onto bones that are called like them."""
    from artuline.formats.bvh_read import proposed, put_motion, read_motion
    from artuline.formats.importing import follow_clip
    from artuline.formats.scene_file import save_scene

    loaded, assets = _loaded(scene)
    f = figure_named(loaded, figure)
    mapping = None
    if bone:
        mapping = proposed(read_motion(file), loaded.figure(f))
        for pair in bone:
            joint, equals, name = pair.partition("=")
            if not (joint and equals and name):
                raise ArtulineError(f"{pair!r} is no pair", remedy="Write it like Hips=hips")
            mapping[joint] = name
    onto = put_motion(loaded, assets, f, file, mapping)
    made = follow_clip(onto.scene, onto.scene.figure(f)) if len(onto.scene.cast) == 1 else onto.scene
    save_scene(output or scene, made, assets)
    typer.echo(f"{len(onto.mapped)} bones move" + (f"; left out: {', '.join(onto.left)}" if onto.left else ""))
    typer.echo(f"Saved {output or scene}")


def keys(
    scene: SceneArgument,
    file: Annotated[
        Path, typer.Argument(metavar="FILE", help="Keys: .csv, .json, .glb, .gltf or .bvh.", show_default=False)
    ],
    figure: FigureOption = None,
    output: OutputOption = None,
) -> None:
    """Bring keys that were changed elsewhere back onto a figure, as a layer above all others."""
    from artuline.formats.coming_back import bring_back
    from artuline.formats.scene_file import save_scene

    loaded, assets = _loaded(scene)
    f = figure_named(loaded, figure)
    made, missing = bring_back(loaded, assets, f, file)
    save_scene(output or scene, made, assets)
    layer = made.figure(f).layers[-1]
    typer.echo(
        f"{layer.name}: frames {layer.start} to {layer.end}"
        + (f"; bones that are not there: {', '.join(missing)}" if missing else "")
    )
    typer.echo(f"Saved {output or scene}")


def table(
    scene: SceneArgument,
    output: Annotated[
        Path, typer.Option("--output", "-o", metavar="FILE", help="A table: .csv or .json.", show_default=False)
    ],
    of: Annotated[
        str, typer.Option("--of", help="take, measures, plots or given (whom rules handed over, and when).")
    ] = "take",
) -> None:
    """Write the shown take as a table: every body on every frame, the worst of every measure, or what is plotted."""
    from artuline.core.run.take_now import take_in
    from artuline.formats.take_table import TABLES, write_take

    loaded, assets = _loaded(scene)
    ref = loaded.active_take()
    if of not in TABLES:
        raise ArtulineError(f"there is no table of {of!r}", remedy=f"Choose one of: {', '.join(TABLES)}.")
    if ref is None:
        raise ArtulineError("the scene has no take", place=str(scene), remedy="Run it first: artuline run SCENE.")
    write_take(output, loaded, take_in(loaded, assets, ref), of)
    typer.echo(f"Saved {output}")


def limbs(
    scene: SceneArgument,
    figure: FigureOption = None,
    output: OutputOption = None,
) -> None:
    """Let the limbs of a figure be led by goals: to hands and feet that are found by their names."""
    from artuline.core.scene import edit
    from artuline.core.setup.limbs import propose_limbs
    from artuline.formats.scene_file import save_scene

    loaded, assets = _loaded(scene)
    f = loaded.figure(figure_named(loaded, figure))
    kept = {b for x in f.goals for b in x.bones}
    found = tuple(x for x in propose_limbs(f, assets) if not kept & set(x.bones))
    if not (found or f.goals):
        raise ArtulineError(
            f"no hands or feet were found in {f.name}", remedy="Choose three bones of a limb in Curves."
        )
    made = edit.figure(loaded, f.id, goals=(*f.goals, *found))
    save_scene(output or scene, made, assets)
    for limb in made.figure(f.id).goals:
        typer.echo(f"{limb.goal}: {', '.join(limb.bones)}")
    typer.echo(f"Saved {output or scene}")


def flesh(
    scene: SceneArgument,
    start: Annotated[
        str,
        typer.Option("--from", metavar="X,Y,Z", help="Where the bone begins at rest, in metres.", show_default=False),
    ],
    end: Annotated[str, typer.Option("--to", metavar="X,Y,Z", help="Where it ends.", show_default=False)],
    name: Annotated[str, typer.Option(help="What it is called.")] = "flesh",
    kind: Annotated[str | None, typer.Option(help="Springy, made of: flesh, muscle, fat, leather or rubber.")] = None,
    radius: Annotated[
        float | None, typer.Option(help="How far it reaches, in metres; else twice its length.", min=1e-3, max=100.0)
    ] = None,
    surface: Annotated[bool, typer.Option("--surface", help="Reach along the skin, not through the volume.")] = False,
    both: Annotated[bool, typer.Option("--both", help="On the other side too.")] = False,
    figure: FigureOption = None,
    output: OutputOption = None,
) -> None:
    """Add a bone to a figure's skeleton, which carries the skin around it, and lets it wobble."""
    from artuline.core.scene.model import Flesh
    from artuline.core.setup.added import grown
    from artuline.core.setup.springy import kind_of, made_springy
    from artuline.formats.scene_file import save_scene

    loaded, assets = _loaded(scene)
    f = figure_named(loaded, figure)
    a, b = _place(start), _place(end)
    reach = radius if radius is not None else max(2.0 * float(np.linalg.norm(b - a)), 1e-3)
    how = Flesh(end=(0.0, 0.0, 0.0), radius=reach, by="surface" if surface else "volume")
    before = set(loaded.figure(f).bone_index)
    made = grown(loaded, assets, f, name, a, b, how, both=both)
    added = [x.name for x in made.figure(f).bones if x.name not in before]
    for bone in added if kind is not None else ():
        made = made_springy(made, assets, f, bone, kind_of(str(kind)))
    save_scene(output or scene, made, assets)
    typer.echo(f"Added {', '.join(added)}" + (f", springy like {kind}" if kind else ""))
    typer.echo(f"Saved {output or scene}")


def soft(
    scene: SceneArgument,
    piece: Annotated[
        str | None,
        typer.Option(
            metavar="X,Y,Z", help="The piece of skin nearest to this place at rest, in metres; else the whole skin."
        ),
    ] = None,
    bones: Annotated[str | None, typer.Option(metavar="BONE,BONE,…", help="The skin that these bones carry.")] = None,
    clusters: Annotated[int, typer.Option(help="Into how many clusters it is divided.", min=1, max=120)] = 16,
    firmness: Annotated[
        float, typer.Option(help="How often a second a metre of it would swing lengthwise.", min=0.01, max=1000.0)
    ] = 4.0,
    density: Annotated[float, typer.Option(help="kg/m^3", min=0.1, max=1e5)] = 400.0,
    keeps: Annotated[
        float, typer.Option(help="Share of its volume lost at most under three times its weight.", min=0.05, max=1.0)
    ] = 0.1,
    within: Annotated[
        float,
        typer.Option(help="Metres from the rest of the skin at which a piece is attached to it.", min=0.0, max=10.0),
    ] = 0.03,
    name: Annotated[str, typer.Option(help="What it is called.")] = "soft",
    copy: Annotated[bool, typer.Option("--copy", help="On the other side too.")] = False,
    figure: FigureOption = None,
    output: OutputOption = None,
) -> None:
    """Make a figure's skin, or a piece of it, a soft part: its volume divided into clusters that give way."""
    from artuline.core.scene.model import Soft
    from artuline.core.setup.soft import add_soft, copied_soft, mask, swings, whole_soft
    from artuline.core.setup.soft_skin import facing_the_rest, region_of_bones, region_piece, skinned
    from artuline.formats.scene_file import save_scene

    loaded, assets = _loaded(scene)
    f = loaded.figure(figure_named(loaded, figure))
    skin = skinned(f, assets)
    if piece is not None:
        on = region_piece(f, assets, _place(piece))
    elif bones is not None:
        names = frozenset(b.strip() for b in bones.split(","))
        unknown = names - set(f.bone_index)
        if unknown:
            raise ArtulineError(f"{f.name} has no bone {min(unknown)!r}", remedy="List its bones: artuline info")
        on = region_of_bones(f, assets, names)
    else:
        on = np.ones(len(skin.points), bool)
    root = facing_the_rest(f, assets, on, within) if f.bodies and not on.all() else None
    made = Soft(
        id=name, region=mask(assets, on), root=mask(assets, root) if root is not None else None, bone=f.bones[int(np.bincount(skin.bone[on]).argmax())].name,
        count=clusters, stretch=firmness, density=density, keeps=keeps, gives=1.0 if on.all() else 0.35, gravity=1.0 if on.all() else 0.5,
    )  # fmt: skip
    changed = (whole_soft if on.all() else add_soft)(loaded, assets, f.id, made)
    if copy:
        changed, _ = copied_soft(changed, assets, f.id, name)
    save_scene(output or scene, changed, assets)
    for s in changed.figure(f.id).softs[len(f.softs) :]:
        first, _ = swings(changed.figure(f.id), assets, s)
        typer.echo(f"{s.id}: {s.count} clusters, swings {first:.2f} times a second")
    typer.echo(f"Saved {output or scene}")


def _place(text: str) -> NDArray[np.float64]:
    """Three numbers with commas. Raises ArtulineError."""
    try:
        found = np.array([float(x) for x in text.split(",")])
    except ValueError:
        found = np.zeros(0)
    if found.shape != (3,) or not np.isfinite(found).all():
        raise ArtulineError(f"{text!r} is no place", remedy="Write it like 0,1.05,0.1")
    return found
