"""The window: stations, roster, stage, details, timeline and checks, and the commands between them."""

from collections.abc import Callable
from dataclasses import replace
from functools import partial
from pathlib import Path

from PySide6.QtCore import QBuffer, QByteArray, QEvent, QIODevice, QObject, QSize, Qt, QTimer
from PySide6.QtGui import QCloseEvent, QDragEnterEvent, QDropEvent
from PySide6.QtWidgets import (
    QApplication,
    QHBoxLayout,
    QLabel,
    QMainWindow,
    QMenu,
    QSplitter,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from artuline.core.bake.bake import add_layer, bake_figure
from artuline.core.checks.finding import Finding
from artuline.core.motion.poses import key_pose
from artuline.core.motion.skeleton import Pose
from artuline.core.run.bracket import stop_workers
from artuline.core.run.prepare import ensure_kernels
from artuline.core.run.record import keep_take, run
from artuline.core.scene import edit
from artuline.core.scene.model import Scene
from artuline.desk import theme
from artuline.desk.actions import Actions
from artuline.desk.blend_commands import BlendCommands
from artuline.desk.bracket_view import BracketView
from artuline.desk.details import Details
from artuline.desk.file_commands import FileCommands
from artuline.desk.help_commands import HelpCommands
from artuline.desk.jobs import Jobs
from artuline.desk.joint_commands import JointCommands
from artuline.desk.memory import Memory
from artuline.desk.menus import FIELDS, SHOWS, all_actions
from artuline.desk.roster import Roster
from artuline.desk.session import Session
from artuline.desk.setup_commands import SetupCommands
from artuline.desk.stage import Stage
from artuline.desk.strip import Strip
from artuline.desk.take_commands import TakeCommands
from artuline.desk.timeline import Timeline
from artuline.desk.transport import Transport
from artuline.desk.tryout_bar import TryoutBar
from artuline.desk.welcome import Welcome
from artuline.view.stage import Show

STATIONS = (
    ("Cast", "human-greeting-variant", "Figures, their unit and their clips"),
    ("Bodies", "shape-outline", "Collision shapes and mass"),
    ("Joints", "angle-acute", "How bodies may move against each other"),
    ("Blend", "transition", "Where, when and how strongly physics acts"),
    ("Takes", "movie-open-outline", "Run and look at the results"),
    ("Curves", "vector-curve", "Bake to keys and deliver"),
)
SHOWN = {
    "Cast": Show(mirror=True, person=True),
    "Bodies": Show(see_through=True, shapes=True, fit=True),
    "Joints": Show(see_through=True, limits=True, bones=True),
    "Blend": Show(forces=True),
    "Takes": Show(echo=True),
    "Curves": Show(echo=True),
}
PICTURE = QSize(240, 150)  # of unsaved work


class Window(SetupCommands, JointCommands, BlendCommands, TakeCommands, FileCommands, HelpCommands, QMainWindow):
    """Everything on one desk."""

    def __init__(self, night: bool | None = None):
        super().__init__()
        self.memory = Memory()
        self.night = self.memory.choice("theme", "day") == "night" if night is None else night
        self.session = Session()
        self.jobs = Jobs()
        self.bake_bounds = {"degrees": 1.0, "millimetres": 10.0}
        #: By figure, what its last bake came to.
        self.baked: dict[str, str] = {}
        self._begin_setup()
        self._begin_takes()
        self._begin_blend()
        self._begin_files()
        self.stage = Stage(self.session)
        self.roster = Roster(self.session)
        self.timeline = Timeline(self.session)
        self.transport = Transport(self.session)
        self.details = Details(self)
        self.strip = Strip(self.session, self.jobs)
        self.tryout = TryoutBar(self.session, self.stage)
        self.welcome = Welcome(self, self.stage)
        self.bracket_view = BracketView(self, self.stage)
        self._found.cell.connect(self.bracket_view.add)
        self.stage.covered = self.bracket_view.isVisible  # type: ignore[method-assign]
        self.actions_ = Actions(self)
        self._stations: dict[str, QToolButton] = {}
        self._icons: list[tuple[QToolButton, str]] = []
        self._lay_out()
        self.actions_.add(all_actions(self))
        self._dress_bar()
        self.restyle()
        recent = self.actions_.menu("&Scene/Recent files")
        recent.aboutToShow.connect(lambda: self._list_recent(recent))
        self._connect()
        self.setAcceptDrops(True)
        self.setWindowIcon(theme.application_icon())
        self.resize(1280, 800)
        for name, restore in (("window", self.restoreGeometry), ("across", self._across.restoreState)):
            layout = self.memory.layout(name)
            if layout is not None:
                restore(layout)
        self.set_station("Cast")
        self._scene_changed()

    # layout

    def _lay_out(self) -> None:
        rail = QWidget()
        rail.setObjectName("rail")
        rail.setFixedWidth(74)
        column = QVBoxLayout(rail)
        column.setContentsMargins(0, 6, 0, 6)
        column.setSpacing(2)
        for i, (name, icon, tip) in enumerate(STATIONS):
            b = QToolButton()
            b.setText(name)
            b.setToolTip(f"{tip} ({i + 1})")
            b.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextUnderIcon)
            b.setCheckable(True)
            b.setAutoExclusive(True)
            b.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
            b.setFixedWidth(73)
            b.clicked.connect(lambda _=False, n=name: self.set_station(n))
            column.addWidget(b)
            self._stations[name] = b
            self._icons.append((b, icon))
        column.addStretch(1)
        left = QWidget()
        left.setObjectName("panel")
        box = QVBoxLayout(left)
        box.setContentsMargins(8, 8, 0, 0)
        box.setSpacing(4)
        head = QLabel("ROSTER")
        head.setObjectName("section")
        box.addWidget(head)
        box.addWidget(self.roster)
        middle = QWidget()
        stack = QVBoxLayout(middle)
        stack.setContentsMargins(0, 0, 0, 0)
        stack.setSpacing(0)
        stack.addWidget(self._show_bar())
        stack.addWidget(self.stage, 1)
        across = self._across = QSplitter(Qt.Orientation.Horizontal)
        across.setHandleWidth(1)
        across.setChildrenCollapsible(False)
        for w in (left, middle, self.details):
            across.addWidget(w)
        across.setSizes([236, 690, 280])
        across.setStretchFactor(1, 1)
        left.setMinimumWidth(150)
        self.details.setMinimumWidth(262)
        top = QWidget()
        line = QHBoxLayout(top)
        line.setContentsMargins(0, 0, 0, 0)
        line.setSpacing(0)
        line.addWidget(rail)
        line.addWidget(across, 1)
        whole = QWidget()
        down = QVBoxLayout(whole)
        down.setContentsMargins(0, 0, 0, 0)
        down.setSpacing(0)
        down.addWidget(top, 1)
        down.addWidget(self.transport)
        down.addWidget(self.timeline)
        down.addWidget(self.strip)
        self.setCentralWidget(whole)

    def _show_bar(self) -> QWidget:
        """What the stage shows, in groups by what they answer: a button with words opens each."""
        bar = QWidget()
        bar.setObjectName("bar")
        bar.setFixedHeight(34)
        line = QHBoxLayout(bar)
        line.setContentsMargins(8, 2, 8, 2)
        line.setSpacing(2)
        self._groups: dict[str, QToolButton] = {}
        for words, (icon, tip) in SHOWS.items():
            b = QToolButton()
            b.setText(words)
            b.setToolTip(tip)
            b.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextBesideIcon)
            b.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
            b.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
            line.addWidget(b)
            self._groups[words] = b
            self._icons.append((b, icon))
        line.addStretch(1)
        hint = QLabel("Drag to turn the view")
        hint.setObjectName("small")
        hint.setMinimumWidth(0)
        line.addWidget(hint)
        return bar

    def _list_recent(self, menu: QMenu) -> None:
        """The files that were open lately."""
        for old in menu.actions()[1:]:
            menu.removeAction(old)
        for path in self.memory.recent():
            made = menu.addAction(path.name, partial(self.open_path, path))
            made.setToolTip(str(path))

    def _dress_bar(self) -> None:
        """Give the buttons of the stage's bar their menus: the same actions as in the menu View."""
        for words, b in self._groups.items():
            menu = QMenu(b)
            menu.setToolTipsVisible(True)
            menu.addActions(self.actions_.menu(f"&View/{words}").actions())
            menu.aboutToShow.connect(self.actions_.refresh)
            b.setMenu(menu)

    def restyle(self) -> None:
        """Dress all icons; after a change of theme too. The panel of details is made anew by itself."""
        for b, name in self._icons:
            b.setIcon(theme.icon(name))
        self.actions_.restyle()
        self.transport.restyle()
        self.tryout.restyle()
        self.stage.restyle()
        self.strip.restyle()
        self.timeline.update()

    def _connect(self) -> None:
        s = self.session
        s.failed.connect(lambda text: self.strip.tell(text, fault=True))
        s.told.connect(self.strip.tell)
        s.scene_changed.connect(self._scene_changed)
        s.leaving.connect(self._leave)
        s.picture = self._small_picture
        s.file_changed.connect(self._retitle)
        self.jobs.failed.connect(lambda text: self.strip.tell(text, fault=True))
        self.tryout.failed.connect(lambda text: self.strip.tell(text, fault=True))
        self.tryout.running_changed.connect(lambda on: self.transport.stop() if on else None)
        self.tryout.running_changed.connect(self.actions_.refresh)
        self.jobs.started.connect(self.actions_.refresh)
        self.jobs.ended.connect(self.actions_.refresh)
        self.tryout.key_wanted.connect(self.take_pose)
        self.tryout.solver_wanted.connect(lambda: self.prepare_solver(self.tryout.toggle))
        self.timeline.frame_wanted.connect(s.set_frame)
        self.timeline.frame_wanted.connect(lambda _: self.tryout.stop())
        self.transport.playing_changed.connect(self._playing)
        self.stage.picked.connect(self._picked)
        self.stage.framed.connect(s.select)
        self.stage.obstacle_chosen.connect(self._obstacle_chosen)
        self.stage.marks = self.make_marks
        self.stage.other_take = self.other_take  # type: ignore[method-assign]
        self.stage.active_shape = lambda: self.active_shape
        self.stage.shape_edit = lambda sc, figure, body: self.mirrored(sc, figure, {body})
        self.later.ready.connect(self.stage.refresh)
        self.later.ready.connect(self.details.soon)
        self.roster.group_moved.connect(self.begin_group_at)
        s.selection_changed.connect(self._new_selection)
        self._seen: list[tuple[int, dict[str, Pose]]] = []
        self._watching = QTimer(self)
        self._watching.setInterval(40)
        self._watching.timeout.connect(self._watch)
        self.jobs.ended.connect(self._run_ended)
        self.jobs.ended.connect(lambda: QTimer.singleShot(0, self._open_next))
        self.strip.wanted.connect(self._go_to_finding)
        self.strip.work_wanted.connect(self.mend)
        self.stage.installEventFilter(self)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if watched is self.stage and event.type() in (QEvent.Type.Resize, QEvent.Type.Show):
            self.welcome.setGeometry(self.stage.rect())
            self.bracket_view.setGeometry(self.stage.rect())
            self.tryout.place()
        return False

    # what the window shows

    def set_station(self, name: str) -> None:
        """Go to a station: what the stage draws and what the details show."""
        self._stations[name].setChecked(True)
        self.stage.station = name
        self._set_show(SHOWN[name])
        self.details.set_station(name)
        self.actions_.refresh()

    @property
    def station(self) -> str:
        """The station that is shown."""
        return self.stage.station

    def _new_selection(self) -> None:
        self.active_shape = 0
        self.actions_.refresh()

    def _set_show(self, show: Show) -> None:
        self.stage.set_show(show)
        usual = SHOWN[self.stage.station]
        for words, b in self._groups.items():
            fields = [f for f, (group, *_) in FIELDS.items() if group == words]
            # what is not as usual here is marked, so that nobody looks for it long
            changed = any(getattr(show, f) != getattr(usual, f) for f in fields)
            b.setText(f"{words} •" if changed else words)
        self.actions_.refresh()

    def toggle_show(self, field: str) -> None:
        """Show something on the stage, or do not; of the colours one at a time."""
        show = self.stage.show_
        values = {field: not getattr(show, field)}
        other = {"mass": "fit", "fit": "mass"}.get(field)
        if other is not None and values[field]:
            values |= {other: False, "shapes": True}
        self._set_show(replace(show, **values))

    def show_as_usual(self) -> None:
        """Show what the station usually shows."""
        self._set_show(SHOWN[self.stage.station])

    def show_layers(self, on: bool) -> None:
        """Show the baked keys instead of the take."""
        self.stage.uses_take = not on
        self.stage.refresh()

    def set_night(self, night: bool) -> None:
        """Change the theme."""
        if night == self.night and theme.palette().name == ("night" if night else "day"):
            return
        self.night = night
        self.memory.keep_choice("theme", "night" if night else "day")
        app = QApplication.instance()
        assert isinstance(app, QApplication)
        # every widget is dressed anew: the fewer there are, the sooner
        self.details.clear()
        theme.apply(app, night)
        self.restyle()
        QTimer.singleShot(0, self.details, self.details.rebuild)

    def _playing(self, on: bool) -> None:
        self.stage.moving = on
        if on:
            self.tryout.stop()
        self.stage.refresh()

    def _scene_changed(self) -> None:
        empty = not (self.session.scene.figures or self.session.scene.obstacles)
        self.welcome.setVisible(empty)
        self.tryout.setVisible(not empty)
        self.session.set_frame(self.session.frame)
        self._retitle()
        self.actions_.refresh()

    def _leave(self) -> None:
        """The document is left: nothing that was begun for it comes into the next one."""
        self.jobs.abandon()
        self.tryout.stop()
        self.transport.stop()
        self.bracket_view.drop()
        self.baked.clear()
        self.stage.echo_take = None
        self.stage.obstacle = None

    def _small_picture(self) -> bytes | None:
        """What the stage shows, small, as PNG."""
        image = self.stage.picture()
        if image is None:
            return None
        mode = Qt.TransformationMode.SmoothTransformation
        data = QByteArray()
        out = QBuffer(data)
        out.open(QIODevice.OpenModeFlag.WriteOnly)
        image.scaled(PICTURE, Qt.AspectRatioMode.KeepAspectRatio, mode).save(out, "PNG")  # type: ignore[call-overload]
        return bytes(data.data())

    def _retitle(self) -> None:
        path = self.session.path
        name = path.name if path else self.session.scene.name
        changed = "" if self.session.stack.isClean() else " (changed)"
        self.setWindowTitle(f"{name}{changed} · Artuline")
        self.setWindowFilePath(str(path) if path else "")

    def _picked(self, figure: str | None, bone: str | None, more: bool) -> None:
        if bone is None:
            if not more:
                self.session.select(None, frozenset())
            return
        old = self.session.selection
        if more and old.figure == figure:
            bones = old.bones ^ {bone}
        else:
            bones = frozenset({bone})
        self.session.select(figure, frozenset(bones))

    def _obstacle_chosen(self) -> None:
        """An obstacle is in hand: its details unfold."""
        o = next((o for o in self.session.scene.obstacles if o.id == self.stage.obstacle), None)
        if o is not None:
            self.session.select(None, frozenset())
            self.details.set_fold(o.id, True)
        self.details.rebuild()
        self.actions_.refresh()
        self.stage.update()

    def _go_to_finding(self, finding: Finding) -> None:
        if finding.frame is not None:
            self.session.set_frame(finding.frame)
        figure = next((f for f in self.session.scene.figures if f.id == finding.figure), None)
        if figure is not None and finding.bone in figure.bone_index:
            self.session.select(figure.id, frozenset({str(finding.bone)}))

    # commands

    def limp(self, bone: str | None) -> None:
        """Hand a bone and all below it, or the whole figure, over in the middle of the range."""
        f = self.session.figure()
        if f is None:
            return
        s = self.session.scene
        live = [g for g in f.groups if any(k.value > 0 for k in g.handover.keys)]
        if live:
            frames = [k.frame for k in live[-1].handover.keys]
            start, end = frames[0], frames[-1]
        else:
            third = (s.end - s.start) // 3
            start, end = s.start + third, s.end - third // 2
        ramp = min(12.0, (end - start) / 3.0)
        done = self.session.edit(
            f"Limp from {bone} down" if bone else "Hand over the whole figure",
            lambda sc: edit.hand_over(sc, f.id, bone, start, end, 0.0, ramp),
        )
        if done and not start < self.session.frame < end - ramp:
            self.session.set_frame(round(start) + 1)
        if done:
            self.strip.tell(f"Physics from frame {start:g} to {end:g}. Next: run it (F5), or try it on the spot (T).")

    def take_pose(self) -> None:
        """Key the pose that the tryout has come to, on the layer of poses, at the present frame."""
        live = self.stage.tryout
        if live is None:
            self.strip.tell("Start a tryout first: its pose becomes the key.", fault=True)
            return
        assets, frame = self.session.assets, round(self.session.frame)
        poses = {f.id: p for f, p in zip(live.scene.figures, live.local_poses()) if f.bodies}

        def change(s: Scene) -> Scene:
            for figure, pose in poses.items():
                s = key_pose(s, assets, figure, frame, pose)
            return s

        if self.session.edit("Take the pose as a key", change):
            self.strip.tell(f"Keyed the pose at frame {frame}, with twelve frames in and out; it steers physics too.")

    def remove_group(self, figure: str, group: str) -> None:
        """Remove a group: its bones stay on their keys."""
        self.session.edit(
            "Remove a group",
            lambda s: edit.figure(s, figure, groups=tuple(g for g in s.figure(figure).groups if g.id != group)),
        )

    def run(self) -> None:
        """Simulate the range in the background and keep the take."""
        scene, assets = self.session.scene, self.session.assets
        self.tryout.stop()
        settings = scene.settings_fingerprint()

        def then(take) -> None:
            self.session.edit("Run", lambda s: keep_take(s, assets, take, settings))
            self.stage.uses_take = True
            self.set_station("Takes")
            self.session.autosave()

        # the run's thread writes here; the window's looks, while this run is the one it is about
        seen: list[tuple[int, dict[str, Pose]]] = []

        def watch(frame: int, poses: dict[str, Pose]) -> None:
            seen[:] = [(frame, poses)]

        def work(progress, cancelled):  # type: ignore[no-untyped-def]
            ensure_kernels(progress, cancelled)
            return run(scene, assets, progress, cancelled, partial=True, watch=watch)

        if self.jobs.start("Simulating", work, then):
            self._seen = seen
            self._watching.start()
        else:
            self.strip.tell("Something is still running: cancel it first.", fault=True)

    def prepare_solver(self, then: Callable[[], object] = lambda: None) -> None:
        """Compile the solver beside the window, once for a machine; then do something."""

        def done(_: object) -> None:
            self.strip.tell("The solver is ready.")
            then()

        words = "Preparing the solver, once, for about a minute"
        if not self.jobs.start(words, lambda p, c: ensure_kernels(p, c), done):
            self.strip.tell("Something is still running: cancel it first.", fault=True)

    def _watch(self) -> None:
        if self._seen:
            self.stage.running = self._seen[0]
        self.stage.watch_run()

    def _run_ended(self) -> None:
        self._seen = []
        self._watching.stop()
        self.stage.watch_run(over=True)

    def remove_take(self) -> None:
        """Remove the shown take."""

        def change(s: Scene) -> Scene:
            kept = tuple(t for t in s.takes if t.id != s.take)
            return edit.scene(s, takes=kept, take=kept[-1].id if kept else None)

        self.session.edit("Remove a take", change)

    def bake(self) -> None:
        """Fit keys to the take in the background and put them on a layer."""
        f, take, ref = self.session.figure(), self.session.take(), self.session.scene.active_take()
        if f is None or take is None or ref is None:
            self.strip.tell("There is no take to bake: run the scene first.", fault=True)
            return
        scene, assets, bounds = self.session.scene, self.session.assets, dict(self.bake_bounds)

        def work(progress, cancelled):
            return bake_figure(scene, assets, f, take, bounds["degrees"], bounds["millimetres"], progress, cancelled)

        def then(baked) -> None:
            words = baked.summary()[0].upper() + baked.summary()[1:] + "."
            self.stage.uses_take = False
            if self.session.edit("Bake the take", lambda s: add_layer(s, assets, f.id, baked, f"{ref.name} baked")):
                self.baked[f.id] = words
            self.set_station("Curves")

        if not self.jobs.start("Fitting keys", work, then):
            self.strip.tell("Something is still running: cancel it first.", fault=True)

    def remove_layer(self, figure: str, layer: str) -> None:
        """Remove a layer."""
        self.session.edit(
            "Remove a layer",
            lambda s: edit.figure(s, figure, layers=tuple(x for x in s.figure(figure).layers if x.id != layer)),
        )

    # what keys and the menus do to what is in hand

    def step_back(self) -> None:
        """Escape: stop the tryout, else close the bracket, else let go of the obstacle, else clear the selection."""
        if self.tryout.running:
            self.tryout.stop()
        elif self.bracket_view.isVisible():
            self.bracket_view.hide()
        elif self.stage.obstacle is not None:
            self.stage.obstacle = None
            self.stage.obstacle_chosen.emit()
        else:
            self.session.select(self.session.selection.figure, frozenset())

    def select_all(self) -> None:
        """Select all bones of the present figure that have bodies, or all that carry skin."""
        f = self.session.figure()
        if f is not None:
            bones = frozenset(f.body_of) or frozenset(b.name for b in f.bones if b.deforms)
            self.session.select(f.id, bones)

    def what_to_remove(self) -> tuple[str, Callable[[], object]] | None:
        """What Delete takes away now, in words, and how; None if nothing is chosen that can be."""
        s, f = self.session, self.session.figure()
        o = next((o for o in s.scene.obstacles if o.id == self.stage.obstacle), None)
        if o is not None and self.station == "Blend":
            return f"the obstacle {o.name}", lambda: self.remove_obstacle(o.id)
        if f is None:
            return None
        bones = s.selection.bones if s.selection.figure == f.id else frozenset()
        bodies = [b for b in f.bodies if b.bone in bones]
        if self.station == "Bodies" and bodies:
            words = f"the body on {bodies[0].bone}" if len(bodies) == 1 else f"{len(bodies)} bodies"
            return words, self.remove_bodies
        group = next((g for g in f.groups if g.start_bone in bones or (g.bones and bones == set(g.bones))), None)
        if self.station == "Blend" and group is not None:
            return f"the group {group.name}", lambda: self.remove_group(f.id, group.id)
        if self.station == "Takes" and s.scene.active_take() is not None:
            return str(s.scene.take), self.remove_take
        if self.station == "Cast" and s.selection.figure == f.id and not bones:
            return f"the figure {f.name}", self.remove_figure
        return None

    def remove_chosen(self) -> None:
        """Take away what is chosen in this station."""
        found = self.what_to_remove()
        if found is not None:
            found[1]()

    def next_station(self) -> None:
        """Go to the station that comes next in the work."""
        names = [n for n, _, _ in STATIONS]
        self.set_station(names[min(names.index(self.station) + 1, len(names) - 1)])

    # leaving

    def closeEvent(self, event: QCloseEvent) -> None:
        if not self.may_leave():
            event.ignore()
            return
        self.jobs.abandon()
        self.tryout.stop()
        self.session.remove_autosave()
        self.memory.keep_layout("window", self.saveGeometry())
        self.memory.keep_layout("across", self._across.saveState())
        stop_workers()
        event.accept()

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        self.open_all([Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()])
