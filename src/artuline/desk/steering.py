"""A figure that is steered on the stage: keys, the camera that follows, hits, its mirror image, and what is kept of it."""

from collections.abc import Callable
from functools import partial

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QMenu, QToolButton, QWidget

from artuline.core.errors import ArtulineError
from artuline.core.run.directed import trunk_of
from artuline.core.run.kept import Watcher, keep
from artuline.core.run.steered import Steered
from artuline.core.scene.model import Figure
from artuline.core.setup.reflected import not_reflected
from artuline.desk import theme
from artuline.desk.desk import Desk
from artuline.desk.model.actions import Action
from artuline.desk.widgets.fields import NumberField

FOLLOWS = 5.0  # 1/s: how fast the view comes after
HIT, MOST_HIT = 150.0, 5000.0  # N s
LIMB_SHARE, LIMP = 0.06, 1.5  # of a hit that a single limb gets, and s for which it is limp
KEPT = (5.0, 10.0, 20.0, 60.0)  # s that can be kept
WAYS = {Qt.Key.Key_Up, Qt.Key.Key_Down, Qt.Key.Key_Left, Qt.Key.Key_Right, Qt.Key.Key_Shift}


class Steering:
    """What is done with a figure that is steered. ``end``: ends the tryout that it is in."""

    def __init__(self, desk: Desk, end: Callable[[], None]):
        self.desk, self.session, self.stage, self.live = desk, desk.session, desk.stage, desk.stage.live
        self._end = end
        self.watcher: Watcher | None = None
        self.figure = ""
        self._held: set[Qt.Key] = set()
        self._seen: np.ndarray | None = None
        self._make()

    def _make(self) -> None:
        self.hit_button, self.mirror_button, self.keep_button = (QToolButton() for _ in range(3))
        for made, words, action, tip in (
            (self.hit_button, "Hit", "hit", "Knocks it over, away from the view; a chosen limb alone goes limp (O)"),
            (
                self.mirror_button,
                "Mirrored",
                "mirrored",
                "Turns it into its mirror image; what is physical goes on (V)",
            ),
        ):
            made.setText(words)
            made.setToolTip(tip)
            made.clicked.connect(lambda _=False, a=action: self.desk.act(a))
        self.mirror_button.setCheckable(True)
        self.hit = HIT
        self.strength = NumberField(
            HIT, "N s", step=5.0, decimals=0, low=1.0, high=MOST_HIT, reset=HIT, name="Strength of a hit"
        )
        self.strength.setToolTip("How hard a hit is: 150 N s knocks a grown person over")
        self.strength.setFixedWidth(86)
        self.strength.changed.connect(lambda v, final: setattr(self, "hit", v))
        self.strength.refused.connect(self.desk.fault)
        self.keep_button.setText("Keep")
        self.keep_button.setToolTip("Keeps the last seconds as a clip and a take (Ctrl+K: the last ten)")
        self.keep_button.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        menu = QMenu(self.keep_button)
        for seconds in KEPT:
            menu.addAction(f"The last {seconds:.0f} seconds", partial(self.keep, seconds))
        self.keep_button.setMenu(menu)

    @property
    def widgets(self) -> tuple[QWidget, ...]:
        """What is on the bar while something is steered."""
        return self.hit_button, self.strength, self.mirror_button, self.keep_button

    def restyle(self) -> None:
        """After a change of theme."""
        self.hit_button.setIcon(theme.icon("lightning-bolt-outline"))
        self.hit_button.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextBesideIcon)

    def actions(self, begin: Callable[[], object]) -> list[Action]:
        """What can be done with a figure that is steered."""
        m, live = "&Run", self.why_not
        return [
            Action("steer", "Steer", begin, "Shift+T", "run-fast", m,
                   "Drives the figure over the ground with the arrow keys, everything physical on it live", self.cannot_begin, line=True),
            Action("hit", "Hit", self.knock, "O", "", m, "Knocks the steered figure over, or makes the chosen limb limp", live),
            Action("mirrored", "Mirrored", self.mirror, "V", "", m, "Turns the steered figure into its mirror image", live, checked=self._flips),
            Action("keep steered", "Keep what was steered", lambda: self.keep(KEPT[1]), "Ctrl+K", "", m,
                   "Keeps the last ten seconds as a clip and a take", live),
        ]  # fmt: skip

    @property
    def steered(self) -> Steered | None:
        """What is steered, if anything is."""
        return self.live.tryout if isinstance(self.live.tryout, Steered) else None

    def why_not(self) -> str:
        """Why nothing can be done with it now."""
        return "" if self.steered is not None else "steer a figure first."

    def _flips(self) -> bool:
        s = self.steered
        return s is not None and s.flips(self.figure)

    def cannot_begin(self) -> str:
        """Why the present figure cannot be steered."""
        f = self.session.figure()
        if f is None:
            return "open a figure first."
        if not any(x.bodies for x in self.session.scene.cast):
            return "fit bodies first."
        if not f.clips:
            return f"{f.name} has no clips to go with: open one that walks."
        return ""

    # beginning and ending

    def begin(self) -> Steered:
        """The scene with the present figure steered, and those that follow it. Raises ArtulineError if it has no clip to go with."""
        f, scene = self.session.figure(), self.session.scene
        assert f is not None
        figures = {f.id: f.steering}
        while True:
            more = {
                x.id: x.steering
                for x in scene.figures
                if x.id not in figures and x.steering is not None and x.steering.follows in figures
            }
            if not more:
                break
            figures |= more
        made = Steered(scene, self.session.assets, self.session.frame, figures)
        self.watcher, self.figure = Watcher(made), f.id
        self._held, self._seen = set(), self._place(made)
        self.mirror_button.setChecked(False)
        self.stage.keys_taken, self.live.words = self.key, self._words
        self.stage.setFocus()
        return made

    def end(self) -> None:
        """It is over."""
        self.watcher = None
        self._held = set()
        self.stage.keys_taken, self.live.words = None, lambda: ""

    def _words(self) -> str:
        """How it goes now, or with which keys."""
        s = self.steered
        if s is None:
            return ""
        pilot = s.pilots[self.figure]
        if s.lies(self.figure):
            return "It lies, and gets up once it is still"
        if s.rises(self.figure):
            return "It gets up"
        if pilot.speed == 0.0 and not self._held:
            return "Up goes, Shift and up runs, left and right turn, down faces the other way"
        names = [pace.stride.clip for pace, share in pilot.paces.mix(pilot.speed)[0] if share > 0.05]
        return f"{' and '.join(names) or 'stands'}, {pilot.speed:.1f} m/s"

    def change(self) -> bool:
        """Go on with the scene as it is now. False if that is not possible."""
        s = self.steered
        if s is None:
            return False
        try:
            s.change(self.session.scene)
        except ArtulineError as error:
            self.desk.fault(str(error))
            return False
        return True

    # keys and camera

    def key(self, key: Qt.Key, pressed: bool) -> bool:
        """A key goes down or up. Whether it is one that steers."""
        s = self.steered
        if s is None or key not in WAYS:
            return False
        before = set(self._held)
        (self._held.add if pressed else self._held.discard)(key)
        if key == Qt.Key.Key_Down and pressed and key not in before:
            s.turn_about(self.figure)
        if self._held != before:
            self._wish(s)
        return True

    def let_go(self) -> None:
        """All keys are up: the stage is left."""
        if self._held and self.steered is not None:
            self._held = set()
            self._wish(self.steered)

    def _wish(self, s: Steered) -> None:
        paces, held = s.pilots[self.figure].paces, self._held
        speed = 0.0
        if Qt.Key.Key_Up in held:
            speed = paces.fastest if Qt.Key.Key_Shift in held else paces.moving[0].speed
        turn = float(Qt.Key.Key_Left in held) - float(Qt.Key.Key_Right in held)
        s.steer(self.figure, speed, turn)

    def _place(self, s: Steered) -> np.ndarray:
        return np.array(s.whereabouts(self.figure)) * [1.0, 0.0, 1.0]

    def follow(self, seconds: float) -> None:
        """Let the view come after."""
        s = self.steered
        if s is None or self._seen is None:
            return
        gone = (self._place(s) - self._seen) * (1.0 - np.exp(-FOLLOWS * seconds))
        self._seen = self._seen + gone
        self.stage.camera = self.stage.camera.moved(gone)

    # what is done to it

    def _limb(self, f: Figure) -> str | None:
        """The chosen bone, if it is one of a limb of the steered figure."""
        chosen = self.session.selection.of(f.id)
        roots = {b.bone for b in f.bodies if b.id not in f.joint_of}
        bone = next(iter(sorted(chosen, key=f.bone_index.__getitem__)), None)
        return bone if bone is not None and bone not in roots else None

    def knock(self) -> None:
        """Hit it, away from the view."""
        s = self.steered
        if s is None:
            return
        f = self.session.scene.figure(self.figure)
        way = -self.stage.camera.axes()[2] * [1.0, 0.0, 1.0]
        way = way / max(float(np.linalg.norm(way)), 1e-9) + [0.0, 0.15, 0.0]
        limb = self._limb(f)
        try:
            if limb is not None:
                s.knock_limb(self.figure, limb, LIMB_SHARE * self.hit * way, LIMP)
                self.desk.tell(f"{limb} is limp for {LIMP:g} seconds.")
            else:
                s.knock(self.figure, trunk_of(f), self.hit * way)
        except ArtulineError as error:
            self.desk.fault(str(error))

    def mirror(self) -> None:
        """Turn it into its mirror image, or back; says what cannot go along."""
        s = self.steered
        if s is None:
            return
        s.mirror(self.figure)
        self.mirror_button.setChecked(self._flips())
        left = not_reflected(self.session.scene, self.figure)
        if left:
            self.desk.tell(f"{left[0]}.")

    def keep(self, seconds: float) -> None:
        """Keep the last seconds as clips and a take; the steering ends."""
        watcher = self.watcher
        if watcher is None or self.steered is None:
            return
        mirrored = self._flips()
        self._end()
        if self.session.edit("Keep what was steered", lambda s: keep(watcher, s, seconds)):
            take = self.session.scene.active_take()
            words = "as its mirror image, " if mirrored else ""
            assert take is not None
            self.desk.tell(f"{words}{take.name}: frames {take.start} to {take.end}, as a clip and a take.".capitalize())
            self.desk.go("Takes")
