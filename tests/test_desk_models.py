"""What is open and what goes on, by itself: no widget is made here."""

import subprocess
import sys
import threading

import numpy as np
import pytest

from artuline.core.scene import edit
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.selection import Selection
from artuline.desk.model.comparison import Comparison
from artuline.desk.model.garbage import Garbage
from artuline.desk.model.pace import Pace, words_of
from artuline.desk.model.session import Session
from artuline.desk.model.sides import Sides


@pytest.fixture
def session(qapp, boom):
    made = Session()
    made.new(*boom)
    return made


def test_the_models_of_the_desk_load_no_widgets():
    code = (
        "import importlib, pkgutil, sys\nimport artuline.desk.model as m\n"
        "for found in pkgutil.iter_modules(m.__path__):\n    importlib.import_module(f'artuline.desk.model.{found.name}')\n"
        "assert 'PySide6.QtCore' in sys.modules\nprint('PySide6.QtWidgets' in sys.modules)"
    )
    assert subprocess.run([sys.executable, "-c", code], capture_output=True, text=True).stdout == "False\n"


def test_an_obstacle_is_chosen_like_any_figure(session):
    heard = []
    session.selection_changed.connect(lambda: heard.append(session.selection))
    session.select("deckhand", frozenset({"hand_l"}))
    session.select("boom", frozenset({"boom"}))
    assert session.obstacle().id == "boom" and session.figure().id == "deckhand" and not session.chosen()
    session.select("boom", frozenset({"boom"}))
    session.select(None, frozenset())
    assert session.figure().id == "deckhand" and len(heard) == 3


def test_what_is_chosen_goes_with_what_it_was(session):
    obstacle = session.scene.obstacles[0].id
    session.select(obstacle, frozenset({obstacle}))
    session.edit("Away", lambda s: edit.without_figure(s, obstacle))
    assert session.selection == Selection()
    session.select("deckhand", frozenset({"hand_l"}))
    session.edit("Away", lambda s: edit.without_figure(s, "deckhand"))
    assert session.selection == Selection() and session.chosen() == frozenset()
    session.stack.undo()
    assert session.figure() is not None


def test_a_take_is_decoded_once_and_forgotten_with_its_document(qapp, boom_run):
    scene, assets, take = boom_run
    session = Session()
    session.new(scene, assets)
    compared = Comparison(session)
    compared.other = scene.take
    assert session.take() is session.take() is compared.take()
    assert session.take().position.shape == take.position.shape
    session.new(edit.scene(scene, takes=(), take=None), AssetStore())
    assert session.take() is None and compared.take() is None and compared.ref() is None


def test_edits_go_to_both_sides_or_to_one(boom):
    scene, _ = boom
    f, sides = scene.figure("deckhand"), Sides()

    def heavier(s):
        return edit.bodies(s, f.id, {"hand_l"}, lambda b: b.changed(mass=3.0))

    both = sides.bodies(heavier(scene), f.id, {"hand_l"})
    assert [both.figure(f.id).body_of[f"hand_{s}"].mass for s in "lr"] == [3.0, 3.0]
    assert sides.bones(f, {"hand_l"}) == {"hand_l", "hand_r"}
    sides.set_both(False)
    one = sides.bodies(heavier(scene), f.id, {"hand_l"})
    assert one.figure(f.id).body_of["hand_r"].mass != 3.0 and sides.bones(f, {"hand_l"}) == {"hand_l"}


def test_what_computes_gives_way_soon(qapp):
    """A job of many short kernels beside the checks would otherwise wait 5 ms for each of them."""
    assert sys.getswitchinterval() < 1e-3


def test_what_is_unreachable_ends_in_the_thread_of_the_window(qtbot):
    """However much another thread makes, it never ends what may be a widget."""
    garbage, here, ended = Garbage(), threading.get_ident(), []

    class Ring:
        def __init__(self):
            self.self = self

        def __del__(self):
            ended.append(threading.get_ident())

    def make():
        for _ in range(5000):
            Ring()

    worker = threading.Thread(target=make)
    worker.start()
    worker.join()
    assert not ended
    garbage.look()
    assert len(ended) == 5000 and set(ended) == {here}


@pytest.mark.parametrize("total", [20, 121, 3000])
@pytest.mark.parametrize("slower", [1.0, 3.0, 12.0])
def test_what_is_left_is_by_the_pace_of_the_work_itself(total, slower):
    """Of steps that take evenly longer, up to ``slower`` times the first: never off by more than that, and nearly right at the end."""
    pace, now, told = Pace(5.0), 5.0, []
    cost = np.linspace(1.0, slower, total) * 60.0 / total
    for done in range(1, total + 1):
        now += cost[done - 1]
        left = pace.left(done, total, now)
        if left is not None and done < total:
            told.append((done, left, cost[done:].sum()))
    assert told[0][0] >= 0.1 * total
    for done, left, true in told:
        assert true / slower <= left * 1.01 + 1e-9 and left <= true * 1.01
        if done > 0.9 * total:
            assert abs(left - true) < 0.35 * true
    # a second part of the work is told anew
    assert pace.left(1, total, now + 1.0) is None
    assert (
        words_of(0.2) == "about 1 s left"
        and words_of(59.6) == "about 60 s left"
        and words_of(600.0) == "about 10 min left"
    )
