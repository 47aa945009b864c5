"""Names from files of strangers are shown as they are: no markup, no control signs, no widget as wide as the name."""

import csv
import json
import struct

import numpy as np
import pytest
from PySide6.QtGui import Qt
from PySide6.QtWidgets import QAbstractItemView, QComboBox, QLabel, QListWidget, QTreeWidget, QWidget

from artuline.core.bake.delivery import Delivered, Delivery
from artuline.core.geometry.curve import Channel
from artuline.core.motion.clip import Clip
from artuline.core.scene.model import Bone, Figure
from artuline.demo.figures import DATA
from artuline.desk.model.plain import clean, tip
from artuline.desk.stations.all import STATIONS
from artuline.formats.key_table import read_keys, write_keys
from artuline.formats.table import write_table
from tests.driving import finish, open_file

NAMES = {
    "picture": '<img src="/usr/share/pixmaps/none.png"><b>{}</b>',
    "signs": "{}\x07\x1b[31m\u202egnirts\u2066",
    "long": "{}" + "a&b" * 3500,
}


def renamed(path, pattern):
    """The deckhand with every name in his file put into a pattern."""
    data = (DATA / "deckhand.glb").read_bytes()
    size = struct.unpack_from("<I", data, 12)[0]
    document, rest = json.loads(data[20 : 20 + size]), data[20 + size :]
    for kind in ("nodes", "animations", "materials", "meshes", "skins"):
        for item in document.get(kind, []):
            item["name"] = pattern.replace("{}", item.get("name", kind))
    text = json.dumps(document).encode()
    text += b" " * (-len(text) % 4)
    body = struct.pack("<II", len(text), 0x4E4F534A) + text + rest
    path.write_bytes(struct.pack("<4sII", b"glTF", 2, 12 + len(body)) + body)
    return path


def faults(window):
    """What would be shown as something else than it is."""
    found = []
    for w in window.findChildren(QWidget):
        if isinstance(w, QLabel) and w.textFormat() != Qt.TextFormat.PlainText and Qt.mightBeRichText(w.text()):
            found.append(f"label {w.text()[:60]}")
        tips = [w.toolTip()]
        if isinstance(w, QComboBox):
            tips += [str(w.itemData(i, Qt.ItemDataRole.ToolTipRole) or "") for i in range(w.count())]
        if isinstance(w, QTreeWidget):
            todo = [w.topLevelItem(i) for i in range(w.topLevelItemCount())]
            while todo:
                item = todo.pop()
                tips += [item.toolTip(k) for k in range(w.columnCount())]
                todo += [item.child(i) for i in range(item.childCount())]
        if isinstance(w, QListWidget):
            tips += [w.item(i).toolTip() for i in range(w.count())]
        for text in tips:
            if len(text) > 4000 or (Qt.mightBeRichText(text) and not text.startswith("<span>")) or "<img" in text:
                found.append(f"tooltip {text[:60]}")
        if isinstance(w, QLabel) and any(c in w.text() for c in "\x07\x1b\u202e\u2066"):
            found.append(f"signs {w.text()[:60]}")
        if w.isVisible() and not isinstance(w, QAbstractItemView) and w.minimumSizeHint().width() > 1280:
            found.append(f"wide {type(w).__name__} {w.accessibleName()[:40]}")
    if window.minimumSizeHint().width() > 1280:
        found.append("the window grew")
    return found


@pytest.mark.parametrize("kind", NAMES)
def test_hostile_names_are_plain_text_everywhere(window, qtbot, tmp_path, kind):
    said = []
    window.desk.told.connect(lambda words, fault: said.append(words) if fault else None)
    open_file(window, qtbot, renamed(tmp_path / "a.glb", NAMES[kind]))
    s = window.session
    window.desk.act("fit")
    finish(window, qtbot)
    f = s.figure()
    assert f.bodies
    s.edit("Shorten", lambda scene: scene.changed(end=6))
    s.select(f.id, frozenset({f.bodies[0].bone}))
    window.desk.go("Blend")
    window.room("Blend").commands.limp(None)
    window.desk.act("run")
    finish(window, qtbot)
    window.desk.act("bake")
    finish(window, qtbot)
    assert s.scene.takes and not said, said
    for cls in STATIONS:
        window.desk.go(cls.name)
        for chosen in (frozenset(), frozenset({s.figure().bodies[0].bone})):
            s.select(f.id, chosen)
            window.details.open_all()
            qtbot.wait(1)
            assert not faults(window), cls.name


def test_what_looks_like_markup_is_shown_as_it_is():
    assert tip("a < b") == "a < b" and tip("<b>bold</b>") == "<span>&lt;b&gt;bold&lt;/b&gt;</span>"
    assert len(clean("x" * 10_000)) <= 600 and clean("Ärmel, 漢字, 50 %") == "Ärmel, 漢字, 50 %"


@pytest.mark.parametrize(
    "name", ["=cmd|' /C calc'!A0", "+1", "-2+3", "@sum(a)", "'quoted", "\tx", 'say "so", then', "plain"]
)
def test_no_cell_of_a_table_is_run_and_every_name_comes_back(tmp_path, name):
    numbers = np.random.default_rng(1).normal(size=(3, 3, 3))
    clip = Clip((Channel(name, "translation", "CUBICSPLINE", np.arange(3) / 24.0, numbers),))
    figure = Figure(id="f", name="f", bones=(Bone(name=name),))
    for ending in (".csv", ".json"):
        (path,) = write_keys(tmp_path / f"keys{ending}", Delivery((Delivered(figure, None, {"x": clip}),), 24.0))
        (back,) = read_keys(path).channels
        assert back.bone == name and np.array_equal(back.values, numbers)
    with open(tmp_path / "keys.csv", newline="", encoding="utf-8") as f:
        assert all(row[0][0] not in "=+-@\t\r" for row in csv.reader(f))
    write_table(tmp_path / "t.csv", ["who", "m"], [[name, -1.5]])
    with open(tmp_path / "t.csv", newline="", encoding="utf-8") as f:
        row = list(csv.reader(f))[1]
        assert row[0][0] not in "=+-@\t\r" and float(row[1]) == -1.5
