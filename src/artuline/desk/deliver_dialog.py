"""The dialog of delivery: which format, what becomes of what is delivered, and its choices."""

from dataclasses import dataclass
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QCheckBox, QFileDialog, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from artuline.core.bake.delivery import several
from artuline.core.bake.merged import Rests
from artuline.core.scene.model import Figure
from artuline.desk.desk import Desk
from artuline.desk.model.which import figure_choices
from artuline.desk.widgets.dialog import Dialog
from artuline.desk.widgets.fields import Choice, NumberField, faint, row, rule, section
from artuline.formats.all import format_of, suffixes
from artuline.formats.format import Fate
from artuline.view.movies import FATES, MovieWish

WORDS = {
    ".glb": "glTF, one file", ".usdc": "USD, binary", ".usda": "USD, text", ".bvh": "BVH, motion only", ".csv": "Keys as a table, CSV", ".json": "Keys as a table, JSON", ".mp4": "Movie, MP4",
    ".gif": "Movie, GIF", ".png": "Pictures, PNG", ".obj": "Geometry of every frame, OBJ",
}  # fmt: skip
CHOSEN = "chosen"  # of the ways to say which figures
GEOMETRY = Fate(
    ("skin of every figure as it is seen, in metres", "lines of strands as curves"),
    ("six digits behind the point",),
    ("skeleton and keys", "materials"),
)


@dataclass(frozen=True)
class Wish:
    """What was chosen."""

    path: Path
    figures: tuple[str, ...]
    together: bool
    rests: Rests
    physics: bool
    movie: MovieWish


class DeliverDialog(Dialog):
    """Remembers what was chosen last."""

    def __init__(self, parent: QWidget, desk: Desk, figure: Figure):
        super().__init__(parent, f"Export {figure.name}", "Choose a file…", 500)
        self.desk, self.figure = desk, figure
        self.wish: Wish | None = None
        self.format = Choice()
        self.format.setAccessibleName("Format")
        known = [s for s in WORDS if s in suffixes("write") or s in FATES or s == ".obj"]
        for suffix in known:
            self.format.addItem(f"{WORDS[suffix]} ({suffix})", suffix)
        self.format.setCurrentIndex(max(self.format.findData(desk.memory.choice("export", ".glb")), 0))
        self.body.addWidget(row("Format", self.format))
        self.words = {title: faint("") for title in ("Kept", "Approximated", "Lost")}
        for title, label in self.words.items():
            self.body.addWidget(section(title))
            self.body.addWidget(label)
        self.body.addWidget(rule())
        self._list_figures()
        self.together = self._box(
            "All in one file", desk.together, "As they stand to each other. Off: each has its own"
        )
        self.rest_before = self._box(
            "Rest pose before the start", desk.rests.before, "It begins as it was made; all else is that much later"
        )
        self.rest = self._box("Rest pose after the end", desk.rests.after, "It ends as it was made")
        self.blend = self._number("Frames to the rest pose", desk.rests.blend, 1, 1000)
        for box in (self.rest_before, self.rest):
            box.toggled.connect(self.show_format)
        self.physics = self._box(
            "Bodies and joints",
            desk.memory.choice("export physics", "") == "on",
            "By the open extensions for physics; other readers pass over them",
        )
        self.width_field, self.height_field = (
            self._number("Width", 1280, 16, 4096),
            self._number("Height", 720, 16, 4096),
        )
        s = desk.session.scene
        self.first, self.last = (
            self._number("From frame", s.start, s.start, s.end),
            self._number("To frame", s.end, s.start, s.end),
        )
        self.numbers = self._box(
            "Frame numbers", desk.memory.choice("movie numbers", "") == "on", "Burnt into the pictures"
        )
        self.clear = self._box(
            "Transparent",
            desk.memory.choice("movie clear", "") == "on",
            "Nothing behind the figures, not even the ground",
        )
        self.finish()
        self.format.currentIndexChanged.connect(self.show_format)
        self.show_format()

    def _list_figures(self) -> None:
        """The choice of figures, and their list for those that are chosen one by one."""
        scene = self.desk.session.scene
        ways = figure_choices(scene, self.figure)
        self.which = Choice()
        self.which.setAccessibleName("Figures")
        for key, words in ways.items():
            self.which.addItem(words[0].upper() + words[1:], key)
        if len(ways) > 1:
            self.which.addItem("Chosen in the list", CHOSEN)
        self.which.setCurrentIndex(max(self.which.findData(self.desk.which), 0))
        self.body.addWidget(row("Figures", self.which))
        self.list = QListWidget()
        self.list.setAccessibleName("Figures that are exported")
        self.list.setMaximumHeight(132)
        for id_ in several(scene, self.figure.id, "all"):
            item = QListWidgetItem(scene.figure(id_).name, self.list)
            item.setData(Qt.ItemDataRole.UserRole, id_)
        # in a holder of its own, which is shown and hidden with it
        holder = QWidget()
        inside = QVBoxLayout(holder)
        inside.setContentsMargins(0, 0, 0, 0)
        inside.addWidget(self.list)
        self.body.addWidget(holder)
        self._check()
        self.which.activated.connect(self._check)
        self.which.activated.connect(self.show_format)
        self.list.itemChanged.connect(self.show_format)

    def _check(self, *_: object) -> None:
        """Mark those in the list that the choice means."""
        if self.which.currentData() != CHOSEN:
            wanted = several(self.desk.session.scene, self.figure.id, self.which.currentData())
            for item in self._items():
                on = item.data(Qt.ItemDataRole.UserRole) in wanted
                item.setCheckState(Qt.CheckState.Checked if on else Qt.CheckState.Unchecked)

    def _items(self) -> list[QListWidgetItem]:
        found = (self.list.item(k) for k in range(self.list.count()))
        return [item for item in found if item is not None]

    def figures(self) -> tuple[str, ...]:
        """The ids of the figures that are to leave."""
        marked = (i for i in self._items() if i.checkState() == Qt.CheckState.Checked)
        return tuple(str(i.data(Qt.ItemDataRole.UserRole)) for i in marked)

    def _box(self, label: str, on: bool, tip: str) -> QCheckBox:
        box = QCheckBox()
        box.setAccessibleName(label)
        box.setChecked(on)
        self.body.addWidget(row(label, box, tip=tip))
        return box

    def _number(self, label: str, value: float, low: float, high: float) -> NumberField:
        kept = float(self.desk.memory.choice(f"movie {label}", str(value))) if label in ("Width", "Height") else value
        field = NumberField(kept, "", step=1.0, decimals=0, low=low, high=high, name=label)
        field.refused.connect(self.desk.fault)
        self.body.addWidget(row(label, field))
        return field

    @property
    def suffix(self) -> str:
        """The ending of the chosen format."""
        return str(self.format.currentData())

    def show_format(self, *_: object) -> None:
        """What becomes of what is delivered, and the choices that there are."""
        suffix = self.suffix
        fate = FATES.get(suffix) or (GEOMETRY if suffix == ".obj" else format_of(Path(f"a{suffix}"), "write").fate)
        for title, items in (("Kept", fate.kept), ("Approximated", fate.approximated), ("Lost", fate.lost)):
            text = "; ".join(items)
            self.words[title].setText(f"{text[0].upper()}{text[1:]}." if text else "Nothing.")
        movie = suffix in FATES
        for control, there in (
            (self.which, suffix in suffixes("write") and self.which.count() > 1), (self.list, suffix in suffixes("write") and self.which.currentData() == CHOSEN),
            (self.together, suffix in suffixes("write") and suffix != ".bvh" and len(self.figures()) > 1), (self.rest, suffix in suffixes("write")),
            (self.rest_before, suffix in suffixes("write")), (self.blend, suffix in suffixes("write") and (self.rest.isChecked() or self.rest_before.isChecked())),
            (self.physics, suffix in (".glb", ".usda", ".usdc") and bool(self.figure.bodies)), (self.width_field, movie),
            (self.height_field, movie), (self.first, movie), (self.last, movie), (self.numbers, movie), (self.clear, suffix == ".png"),
        ):  # fmt: skip
            holder = control.parentWidget()
            assert holder is not None
            holder.setVisible(there)
        self.adjustSize()

    def accept(self) -> None:
        """Choose the file, which may be given up."""
        memory, f = self.desk.memory, self.figure
        if not self.figures():
            self.desk.fault("No figure is chosen: mark one in the list.")
            return
        suggested = str(Path(memory.folder("export")) / (f"{f.name} {f.clip or ''}".strip() + self.suffix))
        name, _ = QFileDialog.getSaveFileName(self, "Export", suggested, f"{WORDS[self.suffix]} (*{self.suffix})")
        if name:
            self.choose(Path(name))

    def choose(self, path: Path) -> None:
        """Take a file, with all that was chosen, and close."""
        path = path if path.suffix.lower() == self.suffix else path.with_name(path.name + self.suffix)
        movie = MovieWish(
            round(self.width_field.value), round(self.height_field.value), round(self.first.value), round(self.last.value), self.numbers.isChecked(),
            self.clear.isChecked() and self.suffix == ".png",
        )  # fmt: skip
        rests = Rests(self.rest_before.isChecked(), self.rest.isChecked(), round(self.blend.value))
        if self.which.currentData() != CHOSEN:
            self.desk.which = self.which.currentData()
        self.wish = Wish(path, self.figures(), self.together.isChecked(), rests, self.physics.isChecked(), movie)
        memory = self.desk.memory
        memory.keep_choice("export", self.suffix)
        memory.keep_file("export", path, recent=False)
        memory.keep_choice("export physics", "on" if self.physics.isChecked() else "")
        memory.keep_choice("movie Width", str(movie.width))
        memory.keep_choice("movie Height", str(movie.height))
        memory.keep_choice("movie numbers", "on" if movie.numbers else "")
        memory.keep_choice("movie clear", "on" if self.clear.isChecked() else "")
        super().accept()
