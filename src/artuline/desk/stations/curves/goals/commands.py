"""What can be done to limbs and to where the motion of bodies goes."""

from collections.abc import Callable, Sequence

from artuline.core.bake.bake import Baked, BakeWish, add_layer
from artuline.core.bake.from_keys import limbs_from_keys
from artuline.core.bake.mapping import led_by, without_limb
from artuline.core.scene import edit
from artuline.core.scene.limb import Elsewhere, Limb
from artuline.core.scene.model import Scene
from artuline.core.setup.limbs import limb_of, propose_limbs
from artuline.desk.desk import Desk
from artuline.desk.model.actions import Action

MENU = "&Keys"
LAYER = "limbs on goals"


class LimbCommands:
    """Limbs of the present figure. ``shown``: whether their table stands below the stage."""

    def __init__(self, desk: Desk, station: str, wish: Callable[[], BakeWish], show: Callable[[], object]):
        self.desk, self.session, self._station, self._wish, self._show = desk, desk.session, station, wish, show
        self.shown = False
        self.session.leaving.connect(self._leave)

    def _leave(self) -> None:
        self.shown = False

    def actions(self) -> Sequence[Action]:
        """For the menu Keys."""
        figure = self.desk.needs("figure")
        return (
            Action("mapping", "Where motion goes", self.turn, "Alt+G", "target", MENU,
                   "Shows below the stage what the motion of every body is baked onto, and the limbs that goals lead", figure,
                   lambda: self.shown, line=True),
            Action("limbs propose", "Propose limbs", self.propose, "", "auto-fix", MENU,
                   "Finds the limbs with hands and feet, to be led by goals; all bodies go onto their bones again", figure),
            Action("limb chosen", "Limb of the chosen bones", self.choose, "", "plus", MENU,
                   "Makes a limb of a chosen hand or foot and the two bones above it, or of three chosen bones", self._needs_bones),
            Action("limb away", "Take the limb away", self.remove, "", "close", MENU,
                   "The chosen limb is not led by a goal any more", self._needs_limb),
            Action("limbs keys", "Put the keys onto goals", self.from_keys, "", "layers-plus", MENU,
                   "Leads the limbs by goals as their keys move them now, on a layer of its own", self._needs_limbs),
        )  # fmt: skip

    def _needs_bones(self) -> str:
        chosen = self.session.chosen()
        return "" if len(chosen) in (1, 3) else "choose a hand or a foot, or three bones of a limb."

    def limb(self) -> Limb | None:
        """The limb of which a bone is chosen."""
        f, chosen = self.session.figure(), self.session.chosen()
        return next((x for x in f.goals if chosen & set(x.bones)), None) if f is not None else None

    def _needs_limb(self) -> str:
        return "" if self.limb() is not None else "choose a bone of a limb first."

    def _needs_limbs(self) -> str:
        f = self.session.figure()
        return "" if f is not None and f.goals else "propose limbs first."

    def turn(self) -> None:
        """Show the table, or the curves again."""
        self.shown = not self.shown
        self.desk.go(self._station)
        self.desk.refill.emit(False)

    def propose(self) -> None:
        """The limbs that are found, those that keys lead kept as they are."""
        f, assets = self.session.figure(), self.session.assets
        if f is None:
            return

        def change(s: Scene) -> Scene:
            figure = s.figure(f.id)
            kept = tuple(x for x in figure.goals if led_by(assets, figure, x))
            taken = {b for x in kept for b in (x.end, *figure.above(x.end)[: figure.above(x.end).index(x.upper) + 1])}
            found = tuple(x for x in propose_limbs(figure, assets) if not taken & set(x.bones))
            return edit.figure(s, f.id, goals=(*kept, *found), elsewhere=())

        if self.session.edit("Propose limbs", change):
            count = len(self.session.scene.figure(f.id).goals)
            words = (
                f"{count} limbs are led by goals."
                if count
                else f"No hands or feet were found in {f.name}: choose three bones."
            )
            self.desk.tell(words)

    def choose(self) -> None:
        """A limb of the chosen bones."""
        f, assets, chosen = self.session.figure(), self.session.assets, self.session.chosen()
        if f is None:
            return
        bones = sorted(chosen, key=lambda b: f.bone_index[b])
        if len(bones) == 1:
            bones = list(f.limb_of(bones[0]))
        if len(bones) < 3:
            self.desk.fault(f"{bones[-1]} has no two bones above it that could bend.")
            return

        def change(s: Scene) -> Scene:
            made = limb_of(s.figure(f.id), assets, *bones)
            for old in s.figure(f.id).goals:
                if set(old.bones) & set(made.bones):
                    s = without_limb(s, assets, f.id, old.end)
            return edit.figure(s, f.id, goals=(*s.figure(f.id).goals, made))

        self.session.edit(f"Limb to {bones[-1]}", change)

    def remove(self) -> None:
        """The chosen limb is none any more."""
        f, limb, assets = self.session.figure(), self.limb(), self.session.assets
        if f is not None and limb is not None:
            self.session.edit(f"Take the limb to {limb.end} away", lambda s: without_limb(s, assets, f.id, limb.end))

    def put(self, figure: str, bones: frozenset[str], onto: Elsewhere | None) -> None:
        """Let the motion of bones' bodies go onto the bones (None), the nearest above, or nothing."""

        def change(s: Scene) -> Scene:
            kept = tuple((b, o) for b, o in s.figure(figure).elsewhere if b not in bones)
            more = tuple((b, onto) for b in sorted(bones)) if onto is not None else ()
            return edit.figure(s, figure, elsewhere=(*kept, *more))

        self.session.edit("Where motion goes", change)

    def from_keys(self) -> None:
        """The limbs as they are keyed, led by goals."""
        f, scene, assets, wish = self.session.figure(), self.session.scene, self.session.assets, self._wish()
        if f is None:
            return

        def then(baked: Baked) -> None:
            self.session.edit("Put the keys onto goals", lambda s: add_layer(s, assets, f.id, baked, LAYER))
            self._show()

        self.desk.start("Fitting goals", lambda p, c: limbs_from_keys(scene, assets, f, wish), then)
