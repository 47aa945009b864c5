"""Limbs and where motion goes, through the real window: proposed, corrected, baked, posed on the stage."""

import numpy as np
import pytest
from PySide6.QtCore import QPointF, Qt
from PySide6.QtWidgets import QComboBox, QToolButton

from artuline.core.bake.path_keys import led_now
from tests.driving import LEFT, drag, finish, press


@pytest.fixture
def curves(window, qtbot, boom_run):
    """The window in Curves with the take of boom, and the table of where motion goes."""
    scene, assets, _ = boom_run
    window.session.new(scene, assets)
    window.set_station("Curves")
    window.show()
    press(window, qtbot, "Where motion goes")
    qtbot.wait(50)
    return window


def table(w):
    return w.station.mapping.table


def row(w, body):
    return next(
        table(w).topLevelItem(i)
        for i in range(table(w).topLevelItemCount())
        if table(w).topLevelItem(i).text(0) == body
    )


def tool(w, qtbot, id_):
    """Click a button of the table's bar."""
    b = next(b for b in w.station.mapping.findChildren(QToolButton) if b.defaultAction() is w.desk.actions.made[id_])
    qtbot.mouseClick(b, LEFT)


def baked(w, qtbot):
    tool(w, qtbot, "limbs propose")
    press(w, qtbot, "Bake the take")
    finish(w, qtbot)
    return w


def test_the_table_says_where_motion_goes(curves, qtbot):
    w = curves
    assert w.below.currentWidget() is w.station.mapping and row(w, "hand_l").text(2) == "hand_l"
    tool(w, qtbot, "limbs propose")
    assert row(w, "hand_l").text(2) == "hand_l goal" and row(w, "upper_arm_l").text(2) == "hand_l direction"
    assert w.session.stack.undoText() == "Propose limbs"
    # a row is its body; a choice sends it elsewhere, and the limb says why it is not led
    qtbot.mouseClick(table(w).viewport(), LEFT, pos=table(w).visualItemRect(row(w, "hips")).center())
    assert w.session.chosen() == frozenset({"hips"})
    box = table(w).itemWidget(row(w, "hand_l"), 1)
    assert isinstance(box, QComboBox)
    box.setFocus()
    qtbot.keyClick(box, Qt.Key.Key_Down)
    assert dict(w.session.figure().elsewhere) == {"hand_l": "above"}
    assert row(w, "hand_l").text(2) == "forearm_l" and "elsewhere" in row(w, "upper_arm_l").text(4)
    w.session.stack.undo()
    # a limb that is taken away, and made again from its hand
    w.session.select("deckhand", frozenset({"hand_l"}))
    tool(w, qtbot, "limb away")
    assert row(w, "hand_l").text(2) == "hand_l" and len(w.session.figure().goals) == 3
    tool(w, qtbot, "limb chosen")
    assert row(w, "hand_l").text(2) == "hand_l goal"
    w.session.select("deckhand", frozenset({"hand_l", "thigh_r", "head"}))
    assert w.desk.actions.known["limb chosen"].why_not() == ""
    w.desk.act("limb chosen")
    assert "no limb" in w.strip.message.toolTip() and len(w.session.figure().goals) == 4


def test_a_goal_is_posed_on_the_stage(curves, qtbot):
    """The hand comes to where its goal is dragged, a drag is one edit; its ring turns it; the diamond turns the elbow; and nothing else moves."""
    w = baked(curves, qtbot)
    assert row(w, "hand_l").text(3).endswith("mm")
    w.session.select("deckhand", frozenset({"hand_l"}))
    tool(w, qtbot, "limb away")
    assert "has keys" in w.strip.message.toolTip() and len(w.session.figure().goals) == 4
    press(w, qtbot, "Back to the curves")
    assert w.below.currentWidget() is w.station.pane and {n[0] for n in w.station.editing.shown()} == {"hand_l goal"}
    w.session.set_frame(100)
    w.stage.frame_selection()
    qtbot.wait(100)
    s, view = w.session, w.stage.view()

    def now():
        f = s.figure()
        return next(
            x for x in led_now(s.scene, s.assets, f, w.station.editing.channels(), 100.0) if x.limb.end == "hand_l"
        )

    tools = w.station.tools()[0]
    for kind, of in (("goal", "goal"), ("look", "direction")):
        before, index = now(), s.stack.index()
        x, y, _ = view.screen(getattr(before, of)[None])[0]
        assert tools.hit(QPointF(x, y), view) == f"{kind}:hand_l"
        drag(qtbot, w.stage, (x, y), (x + 14, y - 9))
        assert s.stack.index() == index + 1
        spot = view.screen(getattr(now(), of)[None])[0]
        assert np.hypot(spot[0] - x - 14, spot[1] - y + 9) < 2.0
        other = "direction" if of == "goal" else "goal"
        np.testing.assert_allclose(getattr(now(), other), getattr(before, other), atol=1e-9)
    rings = tools._rings(now(), view)
    ring, place = next(
        (n, p) for n, p in rings.places().items() if tools.hit(QPointF(*rings._screen(p)), view).startswith("turn")
    )
    x, y = rings._screen(place)
    before = now()
    drag(qtbot, w.stage, (x, y), (x + 12, y + 10))
    assert s.stack.undoText() == "Turn the hand_l goal"
    assert abs(float(before.turn @ now().turn)) < 0.9999, ring
