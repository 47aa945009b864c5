"""The window: stations, roster, stage, details, timeline and checks, and the commands between them."""

from pathlib import Path

from PySide6.QtCore import QEvent, QObject, Qt, QTimer
from PySide6.QtGui import QAction, QActionGroup, QCloseEvent, QDragEnterEvent, QDropEvent, QKeySequence
from PySide6.QtWidgets import (
    QApplication,
    QHBoxLayout,
    QLabel,
    QMainWindow,
    QSplitter,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from artuline.core.bake.bake import add_layer, bake_figure
from artuline.core.checks.finding import Finding
from artuline.core.motion.poses import key_pose
from artuline.core.motion.skeleton import Pose
from artuline.core.run.record import keep_take, run
from artuline.core.scene import edit
from artuline.core.scene.model import Scene
from artuline.desk import theme
from artuline.desk.blend_commands import BlendCommands
from artuline.desk.bracket_view import BracketView
from artuline.desk.details import Details
from artuline.desk.file_commands import FileCommands
from artuline.desk.jobs import Jobs
from artuline.desk.joint_commands import JointCommands
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
TOGGLES = (
    ("figure", "human", "Figure"),
    ("see_through", "circle-opacity", "See-through skin"),
    ("wire", "web", "Skin as its edges"),
    ("shapes", "shape-outline", "Collision shapes"),
    ("isolate", "select-search", "Of the shapes only those that are selected"),
    ("bones", "bone", "Bones"),
    ("limits", "angle-acute", "Joint limits"),
    ("fit", "ruler", "Colour the shapes by how they follow the skin"),
    ("mass", "weight", "Colour the shapes by their mass"),
    ("mirror", "reflect-horizontal", "Pairs of bones on both sides"),
    ("forces", "arrow-down-bold-outline", "Arrows: gravity, pushes, the speed of obstacles"),
    ("person", "human-male-height", "A person of 1.75 m to compare with"),
    ("ground", "grid", "Ground"),
    ("echo", "ghost-outline", "Echo: the keyed motion beside the take"),
    ("rest", "human-handsup", "Rest pose"),
)


class Window(SetupCommands, JointCommands, BlendCommands, TakeCommands, FileCommands, QMainWindow):
    """Everything on one desk."""

    def __init__(self, night: bool = False):
        super().__init__()
        self.night = night
        self.session = Session()
        self.jobs = Jobs()
        self.bake_bounds = {"degrees": 1.0, "millimetres": 10.0}
        self.baked_summary = ""
        self._begin_setup()
        self._begin_takes()
        self._begin_blend()
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
        self._stations: dict[str, QToolButton] = {}
        self._toggles: dict[str, QToolButton] = {}
        self._icons: list[tuple[QToolButton, str]] = []
        self._lay_out()
        self._make_menus()
        self._connect()
        self.setAcceptDrops(True)
        self.resize(1280, 800)
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
        stack.addWidget(self._toggle_bar())
        stack.addWidget(self.stage, 1)
        across = QSplitter(Qt.Orientation.Horizontal)
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
        self.restyle()

    def _toggle_bar(self) -> QWidget:
        bar = QWidget()
        bar.setObjectName("rail")
        bar.setFixedHeight(34)
        line = QHBoxLayout(bar)
        line.setContentsMargins(8, 2, 8, 2)
        line.setSpacing(2)
        for field, icon, tip in TOGGLES:
            b = QToolButton()
            b.setCheckable(True)
            b.setToolTip(tip)
            b.setAccessibleName(tip)
            b.setStyleSheet("min-width: 24px; min-height: 22px; border-left: 1px solid transparent;")
            b.clicked.connect(self._show_changed)
            line.addWidget(b)
            self._toggles[field] = b
            self._icons.append((b, icon))
        line.addStretch(1)
        self._hint = QLabel("Drag to orbit, middle drag to pan, F frames")
        self._hint.setObjectName("small")
        line.addWidget(self._hint)
        return bar

    def restyle(self) -> None:
        """Dress all icons; after a change of theme too."""
        for b, name in self._icons:
            b.setIcon(theme.icon(name))
        self.transport.restyle()
        self.tryout.restyle()
        self.stage.restyle()
        self.details.rebuild()
        self.strip.refresh()
        self.timeline.update()

    # menus

    def _action(self, menu, text: str, keys: str | QKeySequence.StandardKey | None, call) -> QAction:
        a = QAction(text, self)
        if keys is not None:
            a.setShortcut(QKeySequence(keys))
        a.triggered.connect(lambda: call())
        menu.addAction(a)
        return a

    def _make_menus(self) -> None:
        bar = self.menuBar()
        m = bar.addMenu("&Scene")
        self._action(m, "New", QKeySequence.StandardKey.New, self.new_scene)
        self._action(m, "Open…", QKeySequence.StandardKey.Open, self.ask_open)
        self._action(m, "Add a figure…", "Ctrl+I", self.ask_figure)
        m.addSeparator()
        self._action(m, "Save", QKeySequence.StandardKey.Save, self.save)
        self._action(m, "Save as…", QKeySequence.StandardKey.SaveAs, self.ask_save)
        self._action(m, "Export .glb…", "Ctrl+E", self.ask_export)
        m.addSeparator()
        self._action(m, "Close", QKeySequence.StandardKey.Quit, self.close)
        m = bar.addMenu("&Edit")
        undo = self.session.stack.createUndoAction(self, "Undo")
        undo.setShortcut(QKeySequence.StandardKey.Undo)
        redo = self.session.stack.createRedoAction(self, "Redo")
        redo.setShortcut(QKeySequence.StandardKey.Redo)
        m.addActions([undo, redo])
        m.addSeparator()
        self._action(m, "Fit bodies and joints", "Ctrl+B", self.set_up)
        self._action(m, "To the other side", "Ctrl+M", self.mirror_selected)
        self._action(m, "Balance the masses…", None, self.ask_balance)
        self._action(m, "Propose limits…", None, self.ask_limits)
        m.addSeparator()
        self._action(m, "Save setup…", None, self.ask_save_setup)
        self._action(m, "Put a setup on…", None, self.ask_setup)
        m = bar.addMenu("&Run")
        self._action(m, "Run", "F5", self.run)
        self._action(m, "Bake the take", "F6", self.bake)
        self._action(m, "Tryout", "T", self.tryout.toggle)
        self._action(m, "Pause the tryout", "P", self.tryout.pause_button.toggle)
        self._action(m, "Start the tryout over", "R", self.tryout.start_over)
        self._action(m, "Take the tryout's pose as a key", None, self.take_pose)
        m = bar.addMenu("&View")
        self._action(m, "Frame the selection", "F", self.stage.frame_selection)
        group = QActionGroup(self)
        for words, night in (("Day", False), ("Night", True)):
            a = self._action(m, words, None, lambda n=night: self.set_night(n))
            a.setCheckable(True)
            a.setChecked(night == self.night)
            group.addAction(a)
        m = bar.addMenu("S&tations")
        for i, (name, _, _) in enumerate(STATIONS):
            self._action(m, name, str(i + 1), lambda n=name: self.set_station(n))
        m = bar.addMenu("&Play")
        s = self.session
        self._action(m, "Play and pause", "Space", self.transport.toggle)
        self._action(m, "One frame back", "Left", lambda: s.set_frame(round(s.frame) - 1))
        self._action(m, "One frame on", "Right", lambda: s.set_frame(round(s.frame) + 1))
        self._action(m, "To the first frame", "Home", lambda: s.set_frame(s.scene.start))
        self._action(m, "To the last frame", "End", lambda: s.set_frame(s.scene.end))

    def _connect(self) -> None:
        s = self.session
        s.failed.connect(lambda text: self.strip.tell(text, fault=True))
        s.told.connect(self.strip.tell)
        s.scene_changed.connect(self._scene_changed)
        s.file_changed.connect(self._retitle)
        self.jobs.failed.connect(lambda text: self.strip.tell(text, fault=True))
        self.tryout.failed.connect(lambda text: self.strip.tell(text, fault=True))
        self.tryout.running_changed.connect(lambda on: self.transport.stop() if on else None)
        self.tryout.key_wanted.connect(self.take_pose)
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
        self.later.ready.connect(self.details.rebuild)
        self.roster.group_moved.connect(self.begin_group_at)
        s.selection_changed.connect(self._new_selection)
        self._watching = QTimer(self)
        self._watching.setInterval(40)
        self._watching.timeout.connect(self.stage.watch_run)
        self.jobs.ended.connect(self._run_ended)
        self.strip.wanted.connect(self._go_to_finding)
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
        show = SHOWN[name]
        for field, b in self._toggles.items():
            b.setChecked(getattr(show, field))
        self.stage.set_show(show)
        self.details.set_station(name)

    def _new_selection(self) -> None:
        self.active_shape = 0

    def _show_changed(self) -> None:
        # one colour at a time
        for one, other in (("mass", "fit"), ("fit", "mass")):
            if self.sender() is self._toggles[one] and self._toggles[one].isChecked():
                self._toggles[other].setChecked(False)
        self.stage.set_show(Show(**{field: b.isChecked() for field, b in self._toggles.items()}))

    def show_layers(self, on: bool) -> None:
        """Show the baked keys instead of the take."""
        self.stage.uses_take = not on
        self.stage.refresh()

    def set_night(self, night: bool) -> None:
        """Change the theme."""
        self.night = night
        app = QApplication.instance()
        assert isinstance(app, QApplication)
        theme.apply(app, night)
        self.restyle()

    def _playing(self, on: bool) -> None:
        self.stage.moving = on
        if on:
            self.tryout.stop()
        self.stage.refresh()

    def _scene_changed(self) -> None:
        empty = not self.session.scene.figures
        self.welcome.setVisible(empty)
        self.tryout.setVisible(not empty)
        self.session.set_frame(self.session.frame)
        self._retitle()

    def _retitle(self) -> None:
        path = self.session.path
        name = path.name if path else self.session.scene.name
        changed = "" if self.session.stack.isClean() else " (changed)"
        self.setWindowTitle(f"{name}{changed} · Artuline")

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
            self.details.set_fold(f"Obstacle: {o.name}", True)
        self.details.rebuild()
        self.stage.update()

    def _go_to_finding(self, finding: Finding) -> None:
        if finding.frame is not None:
            self.session.set_frame(finding.frame)
        if finding.bone is not None:
            self._select_name(finding.figure, finding.bone)

    def go_to(self, frame: int, name: str) -> None:
        """Go to a frame with a body selected."""
        self.session.set_frame(frame)
        self._select_name(None, name)

    def _select_name(self, figure: str | None, name: str) -> None:
        for f in self.session.scene.figures:
            bone = next((b.bone for b in f.bodies if b.id == name), name)
            if bone in f.bone_index and figure in (None, f.id):
                self.session.select(f.id, frozenset({bone}))
                return

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
        self.session.edit(
            f"Limp from {bone} down" if bone else "Hand over the whole figure",
            lambda sc: edit.hand_over(sc, f.id, bone, start, end, 0.0, ramp),
        )

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

        def watch(frame: int, poses: dict[str, Pose]) -> None:
            self.stage.running = frame, poses

        def work(progress, cancelled):  # type: ignore[no-untyped-def]
            return run(scene, assets, progress, cancelled, partial=True, watch=watch)

        if self.jobs.start("Simulating", work, then):
            self._watching.start()
        else:
            self.strip.tell("Something is still running: cancel it first.", fault=True)

    def _run_ended(self) -> None:
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
            self.baked_summary = baked.summary()[0].upper() + baked.summary()[1:] + "."
            self.stage.uses_take = False
            self.session.edit("Bake the take", lambda s: add_layer(s, assets, f.id, baked, f"{ref.name} baked"))
            self.set_station("Curves")

        self.jobs.start("Fitting keys", work, then)

    def remove_layer(self, figure: str, layer: str) -> None:
        """Remove a layer."""
        self.session.edit(
            "Remove a layer",
            lambda s: edit.figure(s, figure, layers=tuple(x for x in s.figure(figure).layers if x.id != layer)),
        )

    def closeEvent(self, event: QCloseEvent) -> None:
        if not self._may_leave():
            event.ignore()
            return
        self.jobs.cancel()
        self.tryout.stop()
        self.session.remove_autosave()
        event.accept()

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        for url in event.mimeData().urls():
            self.open_path(Path(url.toLocalFile()))
