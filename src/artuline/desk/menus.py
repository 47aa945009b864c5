"""The window's actions, menu by menu."""

from collections.abc import Callable, Iterator
from functools import partial
from typing import TYPE_CHECKING

from artuline.desk.actions import Action

if TYPE_CHECKING:
    from artuline.desk.window import Window

#: Groups of what the stage shows, by the question that they answer: icon and tooltip.
SHOWS = {
    "Skin": ("human", "How the figures' skin is drawn"),
    "Bodies": ("shape-outline", "Shapes, and what their colours say"),
    "Skeleton": ("bone", "Bones, joint limits, pairs on both sides, the rest pose"),
    "Around": ("grid", "Ground, forces, a person to compare with, the echo"),
}
#: What can be shown: group, icon, words, tooltip, keys.
FIELDS = {
    "figure": ("Skin", "human", "Figure", "Draws the figures' skin", "Shift+F"),
    "see_through": ("Skin", "circle-opacity", "See-through skin", "Makes the skin see-through, so that shapes and bones show", "X"),
    "wire": ("Skin", "web", "Skin as its edges", "Draws the edges of the skin only", "W"),
    "shapes": ("Bodies", "shape-outline", "Collision shapes", "Draws the collision shapes", "S"),
    "isolate": ("Bodies", "select-search", "Only what is selected", "Of the shapes, draws only those that are selected", "I"),
    "fit": ("Bodies", "ruler", "Colour by fit", "Colours the shapes by how they follow the skin", "Shift+S"),
    "mass": ("Bodies", "weight", "Colour by mass", "Colours the shapes by their mass, and marks the centre of mass", "Shift+M"),
    "bones": ("Skeleton", "bone", "Bones", "Draws lines from bone to bone", "B"),
    "limits": ("Skeleton", "angle-acute", "Joint limits", "Draws the range of every joint", "L"),
    "mirror": ("Skeleton", "reflect-horizontal", "Pairs on both sides", "Joins the bones that are each other's mirror image", "M"),
    "rest": ("Skeleton", "human-handsup", "Rest pose", "Shows the figures in their rest pose", "Shift+R"),
    "ground": ("Around", "grid", "Ground", "Draws the ground with a grid of whole metres", "G"),
    "forces": ("Around", "arrow-down-bold-outline", "Forces", "Draws gravity, pushes and the speed of obstacles as arrows", "Shift+G"),
    "person": ("Around", "human-male-height", "A person of 1.75 m", "Draws a person's outline to compare with", "H"),
    "echo": ("Around", "vector-difference", "Echo", "Draws the keys, or another take, see-through beside the take", "E"),
}  # fmt: skip


def all_actions(w: "Window") -> Iterator[Action]:
    """Every action of the window, in the order of the menus."""
    yield from _scene(w)
    yield from _edit(w)
    yield from _run(w)
    yield from _view(w)
    yield from _stations(w)
    yield from _play(w)
    yield from _help(w)


def _needs(w: "Window", what: str) -> Callable[[], str]:
    """Why something that needs a figure, bodies, a take or a tryout cannot be done now."""

    def why() -> str:
        f, s = w.session.figure(), w.session
        if f is None:
            return "open a figure first."
        if what == "bodies" and not any(x.bodies for x in s.scene.figures):
            return "fit bodies first."
        if what == "own bodies" and not f.bodies:
            return f"fit bodies to {f.name} first."
        if what == "take" and s.scene.active_take() is None:
            return "run the scene first."
        if what == "tryout" and not w.tryout.running:
            return "start a tryout first."
        if what == "selection" and not (s.selection.bones and s.selection.figure == f.id):
            return "select a body first."
        return ""

    return why


def _scene(w: "Window") -> Iterator[Action]:
    m = "&Scene"
    yield Action("new", "New", w.new_scene, "Ctrl+N", "file-outline", m, "Starts with an empty scene")
    yield Action("open", "Open…", w.ask_open, "Ctrl+O", "folder-open-outline", m, "Opens a scene, or adds a figure")
    yield Action("recent", "The last one", w.open_last, "Ctrl+Shift+O", "history", f"{m}/Recent files", "Opens the file that was open last",
                 lambda: "" if w.memory.recent() else "nothing was opened yet.")  # fmt: skip
    yield Action(
        "figure", "Add a figure…", w.ask_figure, "Ctrl+I", "human", m, "Adds a skinned figure from a file (.glb, .gltf)"
    )
    yield Action("recover", "Recover unsaved work…", w.ask_recover, "", "backup-restore", m,
                 "Shows what windows that ended badly have left behind")  # fmt: skip
    yield Action("save", "Save", w.save, "Ctrl+S", "content-save-outline", m, "Saves the scene to its file", line=True)
    yield Action("save as", "Save as…", w.ask_save, "Ctrl+Shift+S", "", m, "Saves the scene to another file")
    yield Action("export", "Export .glb…", w.ask_export, "Ctrl+E", "export-variant", m,
                 "Writes the present figure with its keys and baked layers", _needs(w, "figure"))  # fmt: skip
    yield Action("close", "Close", w.close, "Ctrl+Q", "", m, "Closes the window", line=True)


def _edit(w: "Window") -> Iterator[Action]:
    m, stack = "&Edit", w.session.stack
    yield Action("undo", "Undo", stack.undo, "Ctrl+Z", "undo", m, "Takes the last edit back",
                 lambda: "" if stack.canUndo() else "nothing was edited yet.")  # fmt: skip
    yield Action("redo", "Redo", stack.redo, "Ctrl+Shift+Z", "redo", m, "Does again what was taken back",
                 lambda: "" if stack.canRedo() else "nothing was taken back.")  # fmt: skip
    yield Action("all", "Select all", w.select_all, "Ctrl+A", "", m, "Selects all bodies of the present figure",
                 _needs(w, "figure"), line=True)  # fmt: skip
    yield Action(
        "back", "Step back", w.step_back, "Esc", "", m, "Stops a tryout, closes a bracket, else clears the selection"
    )
    yield Action("remove", "Remove what is chosen", w.remove_chosen, "Del", "delete-outline", m,
                 "Takes the chosen bodies, group, obstacle, take or figure away",
                 lambda: "" if w.what_to_remove() else "nothing is chosen that this station can take away.")  # fmt: skip
    yield Action("fit", "Fit bodies and joints", w.set_up, "Ctrl+B", "human-handsup", m,
                 "Gives every bone with enough skin a shape, and joins them", _needs(w, "figure"), line=True)  # fmt: skip
    yield Action("other side", "To the other side", w.mirror_selected, "Ctrl+M", "reflect-horizontal", m,
                 "Carries the chosen bodies and joints over to the other side", _needs(w, "selection"))  # fmt: skip
    yield Action("balance", "Balance the masses…", w.ask_balance, "", "scale-balance", m, "Spreads a total mass over the bodies",
                 _needs(w, "own bodies"))  # fmt: skip
    yield Action("limits", "Propose limits…", w.ask_limits, "", "angle-acute", m, "Proposes ranges for all joints, before and after",
                 _needs(w, "own bodies"))  # fmt: skip
    yield Action("save setup", "Save setup…", w.ask_save_setup, "", "", m, "Writes bodies and joints to a file of their own",
                 _needs(w, "own bodies"), line=True)  # fmt: skip
    yield Action("put setup", "Put a setup on…", w.ask_setup, "", "tray-arrow-down", m, "Puts bodies and joints from a file onto the figure",
                 _needs(w, "figure"))  # fmt: skip


def _run(w: "Window") -> Iterator[Action]:
    m = "&Run"
    yield Action(
        "run",
        "Run",
        w.run,
        "F5",
        "play-box-outline",
        m,
        "Simulates the range and keeps it as a take",
        _needs(w, "bodies"),
    )
    yield Action("bake", "Bake the take", w.bake, "F6", "vector-curve", m, "Fits few keys to the take, on a layer above the clip",
                 _needs(w, "take"))  # fmt: skip
    yield Action("stop", "Cancel what runs", w.jobs.cancel, "Ctrl+.", "", m, "Stops the running work; nothing is changed",
                 lambda: "" if w.jobs.busy else "nothing is running.")  # fmt: skip
    yield Action("tryout", "Tryout", w.tryout.toggle, "T", "human-handsdown", m, "Lets go and shows what happens, without recording",
                 _needs(w, "bodies"), line=True)  # fmt: skip
    yield Action("pause", "Pause the tryout", w.tryout.pause_button.toggle, "P", "", m, "Holds the tryout, and lets it go on",
                 _needs(w, "tryout"))  # fmt: skip
    yield Action("over", "Start the tryout over", w.tryout.start_over, "R", "", m, "Lets go again from the frame where it began",
                 _needs(w, "tryout"))  # fmt: skip
    yield Action("pose", "Take the tryout's pose as a key", w.take_pose, "K", "", m, "Keys the pose that the tryout has come to",
                 _needs(w, "tryout"))  # fmt: skip


def _view(w: "Window") -> Iterator[Action]:
    m = "&View"
    for field, (group, icon, words, tip, keys) in FIELDS.items():
        yield Action(f"show {field}", words, partial(w.toggle_show, field), keys, icon, f"{m}/{group}", tip,
                     checked=partial(_shown, w, field))  # fmt: skip
    yield Action(
        "as usual",
        "As usual here",
        w.show_as_usual,
        "Ctrl+0",
        "",
        m,
        "Shows what this station usually shows",
        line=True,
    )
    yield Action(
        "frame",
        "Frame the selection",
        w.stage.frame_selection,
        "F",
        "fit-to-page-outline",
        m,
        "Fills the view with what is selected",
    )
    for words, night in (("Day", False), ("Night", True)):
        yield Action(words.lower(), words, partial(w.set_night, night), "", "", m, f"Dresses the window for the {words.lower()}",
                     checked=partial(_theme, w, night), line=not night)  # fmt: skip


def _shown(w: "Window", field: str) -> bool:
    return bool(getattr(w.stage.show_, field))


def _theme(w: "Window", night: bool) -> bool:
    return w.night is night


def _stations(w: "Window") -> Iterator[Action]:
    from artuline.desk.window import STATIONS

    m = "S&tations"
    for i, (name, icon, tip) in enumerate(STATIONS):
        yield Action(f"go {name}", name, partial(w.set_station, name), str(i + 1), icon, m, tip)
    yield Action(
        "next",
        "The next station",
        w.next_station,
        "N",
        "",
        m,
        "Goes to the station that comes next in the work",
        line=True,
    )


def _play(w: "Window") -> Iterator[Action]:
    m, s = "&Play", w.session
    yield Action(
        "play", "Play and pause", w.transport.toggle, "Space", "play", m, "Plays the range", _needs(w, "figure")
    )
    yield Action(
        "frame back", "One frame back", lambda: s.set_frame(round(s.frame) - 1), "Left", "", m, "Goes one frame back"
    )
    yield Action(
        "frame on", "One frame on", lambda: s.set_frame(round(s.frame) + 1), "Right", "", m, "Goes one frame on"
    )
    yield Action(
        "first",
        "To the first frame",
        lambda: s.set_frame(s.scene.start),
        "Home",
        "",
        m,
        "Goes to the first frame of the range",
    )
    yield Action(
        "last",
        "To the last frame",
        lambda: s.set_frame(s.scene.end),
        "End",
        "",
        m,
        "Goes to the last frame of the range",
    )


def _help(w: "Window") -> Iterator[Action]:
    m = "&Help"
    yield Action(
        "guide",
        "Guide to this station",
        w.show_guide,
        "F1",
        "book-open-variant",
        m,
        "Says what this station is for, step by step",
    )
    yield Action(
        "shortcuts",
        "All shortcuts",
        w.show_shortcuts,
        "Shift+F1",
        "keyboard-outline",
        m,
        "Lists all keys, and what the mouse does",
    )
    yield Action(
        "about",
        "About Artuline",
        w.show_about,
        "",
        "information-outline",
        m,
        "Versions, licence, and where things are kept",
    )
