"""What Props does: brings things in, divides and joins their parts, hangs them on each other, has them held and let go."""

from collections.abc import Callable
from functools import partial
from pathlib import Path

import numpy as np
from PySide6.QtCore import QRectF
from PySide6.QtWidgets import QFileDialog

from artuline.core.run.prepare import ensure_kernels
from artuline.core.run.record import keep_take, run
from artuline.core.scene import edit
from artuline.core.scene.model import Figure, Joint, Mount, Scene
from artuline.core.setup import things
from artuline.core.setup.grip import WAYS, Way, let_go, mounted
from artuline.core.setup.hinge import propose_hinge, with_hinge, without_hinge
from artuline.core.setup.parts import Surface, joined, scaled, split, upright, with_mesh_of
from artuline.core.setup.thing_shapes import shapes_of, with_shapes
from artuline.desk.desk import Desk
from artuline.desk.stage.tools import View
from artuline.formats.all import suffixes
from artuline.formats.importing import put_figure
from artuline.formats.thing_read import read_thing


class Commands:
    """Edits of things."""

    def __init__(self, desk: Desk):
        self.desk, self.session, self.stage = desk, desk.session, desk.stage
        #: The thing that was last in hand.
        self._last = ""
        #: Whether a frame that is drawn on the stage cuts a part.
        self.cutting = False

    # what is in hand

    def things(self) -> list[Figure]:
        """All things of the scene."""
        return [f for f in self.session.scene.figures if f.prop]

    def thing(self) -> Figure | None:
        """The thing in hand: the chosen one, else the one that was, else the first."""
        found = self.things()
        chosen = self.session.selection.figure
        for wanted in (chosen, self._last):
            f = next((f for f in found if f.id == wanted), None)
            if f is not None:
                self._last = f.id
                return f
        return found[0] if found else None

    def parts(self) -> list[str]:
        """The chosen parts of the thing in hand, in their order."""
        f = self.thing()
        chosen = self.session.selection.of(f.id) if f is not None else frozenset()
        return [b.name for b in f.bones if b.name in chosen] if f is not None else []

    def joint(self) -> Joint | None:
        """The joint of the part that is chosen alone."""
        f, parts = self.thing(), self.parts()
        body = f.body_of.get(parts[0]) if f is not None and len(parts) == 1 else None
        return f.joint_of.get(body.id) if f is not None and body is not None else None

    def holder(self) -> tuple[Figure, str] | None:
        """The figure and bone that is chosen to hold it."""
        s, f = self.session, self.thing()
        other = next((x for x in s.scene.figures if x.id == s.selection.figure and (f is None or x.id != f.id)), None)
        if other is None or len(s.selection.bones) != 1:
            return None
        return other, next(iter(s.selection.bones))

    def size(self, f: Figure) -> float:
        """The longest side of a thing at rest, m."""
        return things.longest(f, self.session.assets)

    def frame(self) -> float:
        """The present frame."""
        return float(round(self.session.frame))

    def mount(self) -> Mount | None:
        """What holds the thing at the present frame."""
        f = self.thing()
        return next((m for m in reversed(f.mounts) if m.acts(self.frame())), None) if f is not None else None

    def why_no_mount(self) -> str:
        """Why nothing can be held now."""
        if self.thing() is None:
            return "bring in a thing first."
        return "" if self.holder() is not None else "click the hand, or the bone, that shall hold it."

    def why_not_held(self) -> str:
        """Why nothing can be let go now."""
        if self.thing() is None:
            return "bring in a thing first."
        return "" if self.mount() is not None else "nothing holds it at this frame."

    # bringing in

    def ask_thing(self) -> None:
        """Choose a file, and bring in what it holds."""
        kinds = " ".join(f"*{k}" for k in suffixes("read_mesh"))
        name, _ = QFileDialog.getOpenFileName(self.stage.window(), "Bring in a thing", "", f"Meshes ({kinds})")
        if name:
            self.bring_in(Path(name))

    def bring_in(self, path: Path) -> None:
        """Bring in a thing from a file, beside the window."""
        assets = self.session.assets

        def work(progress, cancelled):  # type: ignore[no-untyped-def]
            ensure_kernels(progress, cancelled)
            return read_thing(path, assets)

        def then(imported) -> None:  # type: ignore[no-untyped-def]
            self._put(f"Bring in {imported.figure.name}", imported)

        self.desk.start(f"Reading {path.name}", work, then)

    def _put(self, words: str, imported) -> None:  # type: ignore[no-untyped-def]
        added = None

        def change(s: Scene) -> Scene:
            nonlocal added
            added = put_figure(s, self.session.assets, imported)
            return added.scene

        if self.session.edit(words, change) and added is not None:
            self.take(added.figure.id)
            self.desk.go("Props")
            self.stage.frame_selection()
            self.desk.tell(" ".join(added.notes) or f"{added.figure.name} is there.")

    def make(self, kind: str) -> None:
        """Bring in a thing of one built-in shape."""
        from artuline.formats.gltf_read import Imported

        self._put(f"Make a {kind}", Imported(things.simple(kind, self.session.assets), ()))

    def add_part(self, kind: str) -> None:
        """Add a built-in shape to the thing in hand, beside what it has."""
        self._change(f"Add a {kind}", lambda f: things.with_part(f, self.session.assets, kind))

    def take(self, figure: str, *bones: str) -> None:
        """Take a thing, or parts of it, in hand."""
        self._last = figure
        self.session.select(figure, frozenset(bones))

    def remove_thing(self) -> None:
        """Take the thing in hand away."""
        f = self.thing()
        if f is not None:
            self.session.edit(f"Remove {f.name}", lambda s: edit.without_figure(s, f.id))

    # parts

    def _change(self, words: str, change: Callable[[Figure], Figure]) -> bool:
        f = self.thing()
        if f is None:
            self.desk.fault("Bring in a thing first.")
            return False

        def put(s: Scene) -> Scene:
            made = change(s.figure(f.id))
            return edit.pruned(s, figures=edit.replace(s.figures, f.id, lambda _: made))

        return self.session.edit(words, put)

    def resize(self, s: Scene, figure: str, longest: float, now: float) -> Scene:
        """The scene with a thing as long as that."""
        made = scaled(s.figure(figure), self.session.assets, longest / now)
        return edit.figure(s, figure, **{n: getattr(made, n) for n in ("bones", "bodies", "mounts", "asset")})

    def scale(self, factor: float) -> None:
        """Make the thing so many times as large: it was read in another unit."""
        self._change("Change the unit", lambda f: scaled(f, self.session.assets, factor))
        self.stage.frame_selection()

    def ask_mesh(self) -> None:
        """Choose another mesh for the thing; its setup stays."""
        kinds = " ".join(f"*{k}" for k in suffixes("read_mesh"))
        name, _ = QFileDialog.getOpenFileName(self.stage.window(), "Another mesh for it", "", f"Meshes ({kinds})")
        if name:
            self.wear(Path(name))

    def wear(self, path: Path) -> None:
        """Show the thing in hand as the mesh of a file."""
        assets = self.session.assets

        def then(imported) -> None:  # type: ignore[no-untyped-def]
            self._change("Another mesh", lambda f: with_mesh_of(f, assets, imported.figure))

        self.desk.start(f"Reading {path.name}", lambda p, c: read_thing(path, assets), then)

    def turn_upright(self) -> None:
        """Turn a thing whose file has z upwards; its shapes are made anew."""
        assets = self.session.assets

        def change(f: Figure) -> Figure:
            turned = upright(f, assets)
            return with_shapes(turned, assets, {b.name: "best" for b in turned.bones})

        self._change("Turn it upright", change)
        self.stage.frame_selection()

    def rename(self, bone: str, name: str) -> None:
        """Give a part another name."""
        f = self.thing()
        if f is not None and name != bone:
            self.session.edit(f"Rename {bone}", lambda s: things.renamed(s, f.id, bone, name))
            self.take(f.id, name if name in self.session.scene.figure(f.id).bone_index else bone)

    def split_part(self) -> None:
        """Divide the chosen part into its loose shells."""
        parts, found = self.parts(), [""]

        def change(f: Figure) -> Figure:
            made, found[:] = split(f, self.session.assets, parts[0])
            return with_shapes(made, self.session.assets, dict.fromkeys(found, "best"))

        if len(parts) == 1 and self._change(f"Split {parts[0]}", change):
            self.desk.tell(f"{parts[0]} is now {len(found)} parts.")

    def join_parts(self) -> None:
        """Make one part of the chosen ones."""
        parts = self.parts()

        def change(f: Figure) -> Figure:
            return with_shapes(joined(f, self.session.assets, parts), self.session.assets, {parts[0]: "best"})

        if len(parts) > 1 and self._change(f"Join {len(parts)} parts", change):
            f = self.thing()
            assert f is not None
            self.take(f.id, parts[0])

    def set_cutting(self, on: bool) -> None:
        """Whether the next frame that is drawn on the stage cuts the chosen part."""
        self.cutting = on
        if on:
            self.desk.tell("Draw a frame with Ctrl around what shall be a part of its own.")
        self.desk.refill.emit(False)

    def cut_in(self, box: QRectF, view: View) -> bool:
        """Make a part of what of the chosen one lies in a frame on the stage. False if nothing is to be cut."""
        f, parts = self.thing(), self.parts()
        if not self.cutting or f is None or len(parts) != 1:
            return False
        self.cutting = False
        surface = Surface.of(f, self.session.assets)
        index = next(i for i, x in enumerate(self.session.scene.figures) if x.id == f.id)
        # the surface as it stands on the stage: every part where its bone is
        now, rest = view.states[index].matrices, things.own_matrices(f)
        move = (now @ np.linalg.inv(rest))[surface.owner]
        middles = surface.positions[surface.triangles].mean(axis=1)
        seen = view.screen(np.einsum("tij,tj->ti", move[:, :3, :3], middles) + move[:, :3, 3])
        inside = (seen[:, 0] >= box.left()) & (seen[:, 0] <= box.right()) & (seen[:, 1] >= box.top())
        inside &= (seen[:, 1] <= box.bottom()) & (seen[:, 2] > 0.0)
        found: list[str] = []

        def change(x: Figure) -> Figure:
            made, names = split(x, self.session.assets, parts[0], inside)
            found.extend(names)
            return with_shapes(made, self.session.assets, dict.fromkeys(names, "best"))

        if self._change(f"Cut {parts[0]}", change):
            self.take(f.id, found[-1])
        self.desk.refill.emit(False)
        return True

    def shape(self, bone: str, kind: str) -> None:
        """Give a part shapes of another kind; a hull group is found beside the window."""
        f, assets = self.thing(), self.session.assets
        if f is None:
            return
        if kind != "hull group":
            self._change(f"Shape of {bone}", lambda x: with_shapes(x, assets, {bone: kind}))
            return

        def then(shapes) -> None:  # type: ignore[no-untyped-def]
            body = f.body_of.get(bone)
            if body is not None and f.id in {x.id for x in self.session.scene.figures}:
                self.session.edit(
                    f"Shape of {bone}", lambda s: edit.bodies(s, f.id, {body.id}, lambda b: b.changed(shapes=shapes))
                )

        self.desk.start(f"Dividing {bone}", lambda p, c: shapes_of(f, assets, bone, kind, c), then)

    # hinges

    def hang(self, child: str, parent: str | None) -> None:
        """Hang a part on another one by a hinge that its geometry proposes, or on nothing."""
        assets, words = self.session.assets, [""]

        def change(f: Figure) -> Figure:
            if parent is None:
                return without_hinge(f, assets, child)
            hinge = propose_hinge(f, assets, child, parent)
            words[0] = hinge.words
            return with_hinge(f, assets, child, parent, hinge.pivot, hinge.axis)

        if self._change(f"Hang {child}", change) and parent is not None:
            f = self.thing()
            assert f is not None
            self.take(f.id, child)
            self.desk.tell(f"{child} turns {words[0]}. Drag the pin to correct it.")

    def next_axis(self) -> None:
        """Let the hinge in hand turn about the next of three axes across each other."""
        joint = self.joint()
        if joint is not None:
            self._change("Another axis", lambda f: things.next_axis(f, self.session.assets, joint))

    def remove_hinge(self) -> None:
        """Take the hinge of the chosen part away."""
        parts = self.parts()
        if len(parts) == 1:
            self.hang(parts[0], None)

    # holding

    def mount_here(self) -> None:
        """Put the thing into the chosen hand from this frame on; where a hand holds it already, it is passed on as it is."""
        found, f = self.holder(), self.thing()
        if found is None or f is None:
            self.desk.fault(f"First {self.why_no_mount()}")
            return
        holder, bone = found
        before = self.mount()
        passed = before is not None and (before.figure, before.reach or before.bone) != (holder.id, bone)
        start, frame = before is not None and before.start, self.frame()
        passed = passed and frame > (start if isinstance(start, float) else float(self.session.scene.start))
        done = self.session.edit(
            f"Hold {f.name}",
            lambda s: mounted(s, self.session.assets, f.id, holder.id, bone, frame, as_it_lies=passed),
        )
        if done:
            self.take(f.id)
            words = f"is passed on at frame {frame:g}" if passed else "is held"
            self.desk.tell(f"{f.name} {words}. Next: run it (F5), or choose another way to carry it.")

    def take_up_here(self) -> None:
        """Let the chosen bone take the thing as it lies, from this frame on."""
        found, f, frame = self.holder(), self.thing(), self.frame()
        if found is not None and f is not None:
            self.session.edit(
                f"Take up {f.name}",
                lambda s: mounted(s, self.session.assets, f.id, found[0].id, found[1], frame, as_it_lies=True),
            )

    def choose_way(self, way: Way) -> None:
        """Carry it in another way, from where the mount at this frame begins."""
        f, m = self.thing(), self.mount()
        if f is None or m is None:
            return
        self.session.edit(WAYS[way][0], lambda s: things.carried(s, self.session.assets, f.id, m.id, way))

    def let_go_here(self) -> None:
        """Let the thing go at this frame."""
        f = self.thing()
        if f is not None and self.session.edit(f"Let {f.name} go", lambda s: let_go(s, f.id, self.frame())):
            self.desk.tell(f"{f.name} is let go at frame {self.frame():g}, and keeps its momentum.")

    def change_mount(self, s: Scene, figure: str, mount: str, **values: object) -> Scene:
        """The scene with fields of a mount replaced."""
        f = s.figure(figure)
        return edit.figure(s, figure, mounts=edit.replace(f.mounts, mount, lambda m: m.changed(**values)))

    def remove_mount(self, mount: str) -> None:
        """Take a mount away."""
        self._change("Remove a mount", lambda f: f.changed(mounts=tuple(m for m in f.mounts if m.id != mount)))

    def run_ways(self) -> None:
        """Run the scene with the thing carried in each of the three ways, as three takes."""
        f, m, session = self.thing(), self.mount(), self.session
        if f is None or m is None:
            self.desk.fault("Nothing holds a thing at this frame.")
            return
        scene, assets = session.scene, session.assets

        def work(progress, cancelled):  # type: ignore[no-untyped-def]
            ensure_kernels(progress, cancelled)
            found = []
            for k, way in enumerate(WAYS):
                made = things.carried(scene, assets, f.id, m.id, way)
                take = run(made, assets, partial(_share, progress, k), cancelled)
                found.append((way, made, take))
            return found

        def then(found) -> None:  # type: ignore[no-untyped-def]
            def change(s: Scene) -> Scene:
                for way, made, take in found:
                    kept = keep_take(
                        made.changed(takes=s.takes, take=s.take), assets, take, made.settings_fingerprint()
                    )
                    ref = kept.takes[-1]
                    s = s.changed(takes=(*s.takes, ref.changed(name=f"{ref.name}, {way}")), take=ref.id)
                # the one that is set shows first
                now = s.settings_fingerprint()
                return s.changed(take=next((t.id for t in s.takes[-len(found) :] if t.settings == now), s.take))

            if session.edit("Run three ways", change):
                self.desk.go("Takes")
                self.desk.tell("Three takes: choose one, and another beside it.")

        self.desk.start("Simulating three ways", work, then)


def _share(progress: Callable[[int, int], None], k: int, done: int, total: int) -> None:
    """Progress of the run ``k`` of three."""
    progress(k * total + done, len(WAYS) * total)
