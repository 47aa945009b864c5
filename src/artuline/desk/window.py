"""The window: the frame, and where everything stands in it."""

from collections.abc import Sequence
from functools import partial
from pathlib import Path

from PySide6.QtCore import QBuffer, QByteArray, QIODevice, QSize, Qt, QTimer
from PySide6.QtGui import QCloseEvent, QDragEnterEvent, QDropEvent
from PySide6.QtWidgets import (
    QApplication,
    QHBoxLayout,
    QMainWindow,
    QMenu,
    QSplitter,
    QStackedWidget,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from artuline.core.run.bracket import stop_workers
from artuline.desk import theme
from artuline.desk.desk import Desk
from artuline.desk.details import Details
from artuline.desk.files import Files
from artuline.desk.general import General
from artuline.desk.help import Help
from artuline.desk.looks import SHOWS, Looks, ShowBar
from artuline.desk.menus import Menus
from artuline.desk.model.actions import Action
from artuline.desk.model.plain import tip as plain_tip
from artuline.desk.model.plain import unmarked
from artuline.desk.roster import Roster
from artuline.desk.station import Station
from artuline.desk.stations.all import STATIONS
from artuline.desk.strip import Strip
from artuline.desk.timeline.timeline import Timeline
from artuline.desk.transport import Transport
from artuline.desk.tryout_bar import TryoutBar
from artuline.desk.welcome import Welcome
from artuline.desk.widgets.label import Label

PICTURE = QSize(240, 150)  # of unsaved work


class Window(QMainWindow):
    """Everything on one desk."""

    def __init__(self, night: bool | None = None):
        super().__init__()
        desk = self.desk = Desk()
        self.session = desk.session
        self.night = desk.memory.choice("theme", "day") == "night" if night is None else night
        self.files, self.looks = Files(desk), Looks(desk)
        self.stations: list[Station] = [kind(desk) for kind in STATIONS]
        self.station = self.stations[0]
        self.stage = desk.stage
        self.roster = Roster(desk.session)
        self.timeline = Timeline(desk.session, self.stations)
        self.transport = Transport(desk)
        self.tryout = TryoutBar(desk)
        self._register()
        self.details = Details(desk, self.station)
        self.strip = Strip(desk)
        self.welcome = Welcome(desk, self.files)
        self.show_bar = ShowBar(self.looks)
        self.rail: dict[str, QToolButton] = {}
        self._lay_out()
        self.menus = Menus(self, desk.actions)
        groups = {g: self.menus.menu(f"&View/{g}").actions() for g in SHOWS}
        self.show_bar.set_menus(groups)  # type: ignore[arg-type]
        self.restyle()
        recent = self.menus.menu("&Scene/Recent files")
        recent.aboutToShow.connect(partial(self._list_recent, recent))
        self._connect()
        self.setAcceptDrops(True)
        self.setWindowIcon(theme.application_icon())
        self.resize(1280, 800)
        for name, restore in (
            ("window", self.restoreGeometry),
            ("across", self._across.restoreState),
            ("middle", self._middle.restoreState),
        ):
            layout = desk.memory.layout(name)
            if layout is not None:
                restore(layout)
        self.set_station(self.station.name)
        self._scene_changed()

    def _register(self) -> None:
        """Everything that can be done, in the order of the menus."""
        actions, general = self.desk.actions, General(self.desk, self.stations, lambda: self.station)
        actions.add(self.files.actions())
        actions.add([Action("close", "Close", self.close, "Ctrl+Q", "", "&Scene", "Closes the window", line=True)])
        actions.add(general.edit_actions())
        for station in self.stations:
            actions.add(station.actions())
        actions.add(general.run_actions())
        actions.add(self.tryout.all_actions())
        actions.add(self.looks.actions())
        actions.add(self._theme_actions())
        actions.add(self._station_actions())
        actions.add(self.transport.all_actions())
        actions.add(Help(self.desk, lambda: self.station).actions())

    def _theme_actions(self) -> Sequence[Action]:
        def dressed(night: bool) -> bool:
            return self.night is night

        return [
            Action(words.lower(), words, partial(self.set_night, night), "", "", "&View", f"Dresses the window for the {words.lower()}",
                   checked=partial(dressed, night), line=not night)
            for words, night in (("Day", False), ("Night", True))
        ]  # fmt: skip

    def _station_actions(self) -> Sequence[Action]:
        m = "S&tations"
        return [
            *(Action(f"go {s.name}", s.name, partial(self.set_station, s.name), str(i), s.icon, m, s.tip)
              for i, s in enumerate(self.stations, 1)),
            Action("next", "The next station", self.next_station, "N", "", m, "Goes to the station that comes next in the work", line=True),
        ]  # fmt: skip

    # layout

    def _rail_of_stations(self) -> QWidget:
        rail = QWidget()
        rail.setObjectName("rail")
        rail.setFixedWidth(74)
        column = QVBoxLayout(rail)
        column.setContentsMargins(0, 6, 0, 6)
        column.setSpacing(2)
        for i, station in enumerate(self.stations, 1):
            b = QToolButton()
            b.setText(station.name)
            b.setToolTip(f"{station.tip} ({i})")
            b.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextUnderIcon)
            b.setCheckable(True)
            b.setAutoExclusive(True)
            b.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
            b.setFixedWidth(73)
            b.clicked.connect(partial(self.set_station, station.name))
            column.addWidget(b)
            self.rail[station.name] = b
        column.addStretch(1)
        return rail

    def _lay_out(self) -> None:
        left = QWidget()
        left.setObjectName("panel")
        box = QVBoxLayout(left)
        box.setContentsMargins(8, 8, 0, 0)
        box.setSpacing(4)
        head = Label("ROSTER")
        head.setObjectName("section")
        box.addWidget(head)
        box.addWidget(self.roster)
        seen = QWidget()
        _stack(seen, self.show_bar, self.stage, grows=self.stage)
        self.below = QStackedWidget()
        middle = self._middle = QSplitter(Qt.Orientation.Vertical)
        middle.setHandleWidth(1)
        middle.setChildrenCollapsible(False)
        middle.addWidget(seen)
        middle.addWidget(self.below)
        middle.setSizes([360, 250])
        middle.setStretchFactor(0, 1)
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
        line.addWidget(self._rail_of_stations())
        line.addWidget(across, 1)
        whole = QWidget()
        _stack(whole, top, self.transport, self.timeline, self.strip, grows=top)
        self.setCentralWidget(whole)

    def _list_recent(self, menu: QMenu) -> None:
        """The files that were open lately."""
        for old in menu.actions()[1:]:
            menu.removeAction(old)
        for path in self.desk.memory.recent():
            made = menu.addAction(unmarked(path.name, 80), partial(self.files.open_path, path))
            made.setToolTip(plain_tip(str(path)))

    def restyle(self) -> None:
        """Dress all icons; after a change of theme too. The panel of details is made anew by itself."""
        for station in self.stations:
            self.rail[station.name].setIcon(theme.icon(station.icon))
            station.restyle()
        for part in (self.show_bar, self.menus, self.transport, self.tryout, self.stage, self.strip):
            part.restyle()
        self.timeline.update()

    def _connect(self) -> None:
        s, desk = self.session, self.desk
        desk.wanted.connect(self.set_station)
        desk.advanced.connect(self._advance)
        s.scene_changed.connect(self._scene_changed)
        s.file_changed.connect(self._retitle)
        s.picture = self._small_picture
        self.timeline.frame_wanted.connect(s.set_frame)
        # whoever goes to a frame, plays or runs has left the tryout
        self.timeline.frame_wanted.connect(lambda _: self.tryout.stop())
        self.transport.playing_changed.connect(lambda on: self.tryout.stop() if on else None)
        desk.jobs.started.connect(self.tryout.stop)
        self.tryout.running_changed.connect(lambda on: self.transport.stop() if on else None)
        self.tryout.running_changed.connect(desk.actions.refresh)

    # what the window shows

    def room(self, name: str) -> Station:
        """A station by its name. Raises KeyError if there is none."""
        return next(s for s in self.stations if s.name == name)

    def set_station(self, name: str, *_: object) -> None:
        """Go to a station: what the stage draws and what the details show."""
        self.station = self.room(name)
        self.rail[name].setChecked(True)
        self.stage.enter(self.station, self.stations)
        self.looks.set_usual(self.station.show)
        self.details.set_station(self.station)
        self._show_lower()
        self.desk.actions.refresh()

    def _show_lower(self) -> None:
        """What the station has below its stage."""
        lower = self.station.lower()
        if lower is not None:
            if self.below.indexOf(lower) < 0:
                self.below.addWidget(lower)
            self.below.setCurrentWidget(lower)
        self.below.setVisible(lower is not None)

    def _advance(self, name: str) -> None:
        if self.stations.index(self.room(name)) > self.stations.index(self.station):
            self.set_station(name)

    def next_station(self) -> None:
        """Go to the station that comes next in the work."""
        at = self.stations.index(self.station) + 1
        self.set_station(self.stations[min(at, len(self.stations) - 1)].name)

    def set_night(self, night: bool) -> None:
        """Change the theme."""
        if night == self.night and theme.palette().name == ("night" if night else "day"):
            return
        self.night = night
        self.desk.memory.keep_choice("theme", "night" if night else "day")
        app = QApplication.instance()
        assert isinstance(app, QApplication)
        # every widget is dressed anew: the fewer there are, the sooner
        self.details.clear()
        theme.apply(app, night)
        self.restyle()
        QTimer.singleShot(0, self.details, self.details.rebuild)

    def _scene_changed(self) -> None:
        empty = not self.session.scene.figures
        self.welcome.setVisible(empty)
        self.tryout.setVisible(not empty)
        self._show_lower()
        self.session.set_frame(self.session.frame)
        self._retitle()

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

    # files that come, and the end

    def closeEvent(self, event: QCloseEvent) -> None:
        if not self.files.may_leave():
            event.ignore()
            return
        self.desk.jobs.abandon()
        self.tryout.stop()
        self.session.remove_autosave()
        self.desk.memory.keep_layout("window", self.saveGeometry())
        self.desk.memory.keep_layout("across", self._across.saveState())
        self.desk.memory.keep_layout("middle", self._middle.saveState())
        stop_workers()
        event.accept()

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        self.files.open_all([Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()])


def _stack(parent: QWidget, *widgets: QWidget, grows: QWidget) -> None:
    """Put widgets below each other without gaps; one takes what room there is."""
    column = QVBoxLayout(parent)
    column.setContentsMargins(0, 0, 0, 0)
    column.setSpacing(0)
    for w in widgets:
        column.addWidget(w, 1 if w is grows else 0)
