"""Details of Flesh: soft parts, how they are divided, how firm they are, and how they fared."""

from functools import partial

from artuline.core.scene.model import Figure, Soft
from artuline.core.scene.soft import MOST_CLUSTERS
from artuline.desk.form import Form
from artuline.desk.stations.flesh.soft.commands import SoftCommands
from artuline.desk.widgets.fields import button, buttons, faint, rule, section


def fill(d: Form, c: SoftCommands, f: Figure) -> None:
    """The soft parts of a figure, and the one in hand."""
    d.add(rule(), section("Soft parts"))
    if not f.softs:
        d.add(faint("A life vest, a rubber arm, a jelly: skin whose whole volume gives way, divided into clusters."))
    part = c.part()
    if part is None or d.fold("Make another", "", opened=bool(c.picking)):
        for action in ("soft whole", "soft piece", "soft bones", "soft box"):
            on = c.picking and action == f"soft {c.picking}"
            words = {"soft piece": "Click the piece now…", "soft box": "Draw the frame now…"}[action] if on else ""
            d.add(d.act(action, words, primary=bool(on)))
    for s in f.softs:
        mark = "•  " if part is not None and s.id == part.id else ""
        d.add(
            buttons(
                (f"{mark}{s.id}", partial(c.choose, f, s), f"{s.id}, {s.count} clusters on {s.bone}: take it in hand")
            )
        )
    if part is not None:
        _part(d, c, f, part)
    if f.softs:
        d.next("Takes", "run it and see how it fares")


def _part(d: Form, c: SoftCommands, f: Figure, s: Soft) -> None:
    d.add(rule(), section(s.id))
    first, second = c.swings(f, s)
    volume = c.volume(f, s)
    d.add(faint(f"Swings {first:.1f} and {second:.1f} times a second{' where it is held' if s.root or _hangs(f, s) else ''}; {_plain(s.density * volume)} kg in {_plain(1000.0 * volume)} litres."))  # fmt: skip
    if n := c.by_hand(f, s):
        d.add(faint(f"{n} of its bodies and joints were edited by hand. They stay while the number of clusters does."))
    d.plain_number("Clusters", s.count, "", lambda v: c.change("Number of clusters", count=max(round(v), 1)), step=0.1, decimals=0, low=1, high=MOST_CLUSTERS,
                   tip="How many rigid pieces it is divided into. It is as firm with few as with many.")  # fmt: skip
    d.plain_number("Size", 100.0 * c.size(f, s), "cm", lambda v: c.change("Size of clusters", count=_count(volume, 0.01 * v)), step=0.02, decimals=1, low=0.3, high=300.0,
                   tip="How large every cluster is, which says how many there are.")  # fmt: skip
    d.choice("Shapes", ["hulls", "spheres"], "hulls" if s.shape == "hull" else "spheres", lambda v: c.change("Shapes of clusters", shape=v[:-1].replace("hulls", "hull")),
             "What its clusters touch others with.")  # fmt: skip

    def tune(scene, **values):  # type: ignore[no-untyped-def]
        return c.tuned(scene, f.id, s.id, **values)

    d.number("Firmness", s.stretch, "Hz", lambda x, v: tune(x, stretch=v), words="Change the firmness", step=0.02, decimals=2, low=0.05, high=200.0,
             tip="How often a second a metre of it would swing lengthwise, held at one end: the same stuff at every size.")  # fmt: skip
    d.number("Damping", s.ratio, "", lambda x, v: tune(x, ratio=v), words="Change the damping", step=0.005, decimals=2, low=0.0, high=3.0,
             tip="Share of the damping at which that would not swing any more.")  # fmt: skip
    if d.fold("More firmness", f"{s.bend:g} {s.twist:g}" if s.bend or s.twist else "", opened=bool(s.bend or s.twist)):
        d.number("Against bending", s.bend, "Hz", lambda x, v: tune(x, bend=v), words="Change the firmness against bending", step=0.01, decimals=2, low=0.0, high=50.0, reset=0.0,
                 tip="How often a metre of it would swing, were it as firm as what is added against bending. 0: what follows from its firmness.")  # fmt: skip
        d.number("Against twisting", s.twist, "Hz", lambda x, v: tune(x, twist=v), words="Change the firmness against twisting", step=0.01, decimals=2, low=0.0, high=50.0, reset=0.0,
                 tip="The same against twisting.")  # fmt: skip
    d.number("Density", s.density, "kg/m³", lambda x, v: tune(x, density=v), words="Change the density", step=2.0, decimals=0, low=1.0, high=20000.0,
             tip="How heavy it is. Its frequencies stay.")  # fmt: skip
    d.number("Loses at most", 100.0 * s.keeps, "%", lambda x, v: tune(x, keeps=0.01 * v), words="Change what it loses", step=0.1, decimals=0, low=5.0, high=100.0,
             tip="Share of its volume that it loses under three times its weight. A pressure inside keeps the rest.")  # fmt: skip
    d.number("Gives way", 100.0 * s.gives, "%", lambda x, v: tune(x, gives=0.01 * v), words="Change how far it gives way", step=0.2, decimals=0, low=1.0, high=100.0, reset=100.0,
             tip="Share of the way to its neighbour by which a cluster moves at most. 100 %: there is no end to it. Less where heavy bodies fall on it, so that it is not turned inside out.")  # fmt: skip
    d.number("Feels gravity", s.gravity, "", lambda x, v: tune(x, gravity=v), words="Change the gravity felt", step=0.01, decimals=2, low=0.0, high=1.0,
             tip="Share of gravity. Skin was modelled as it hangs, so that all of it lets it sag once more.")  # fmt: skip
    if s.root is not None or _hangs(f, s):
        d.plain_number("Fades over", 100.0 * s.fall, "cm", lambda v: c.change("How it fades", fall=0.01 * v), step=0.05, decimals=1, low=0.0, high=100.0,
                       tip="How far along the skin from where it is attached it comes to move by itself, so that no edge shows.")  # fmt: skip
    d.add(button("Draw the frame now…" if c.picking == "root" else "Attach it elsewhere", partial(c.pick, "root"), icon="pin",
                 tip="Draw a frame on the stage around where it is attached to its figure"))  # fmt: skip
    fared = c.fared(f, s)
    if fared is not None:
        inside_out = int(fared.inverted.max())
        d.add(faint(f"In the take it lost {100.0 * fared.lost:.0f} % of its volume at most" + (f"; {inside_out} triangles turned inside out." if inside_out else ".")))  # fmt: skip
    d.add(d.act("soft copy"))
    d.add(
        button(f"Remove {s.id}", c.remove, icon="close", tip="Its skin goes back to the bones that carried it (Delete)")
    )


def _hangs(f: Figure, s: Soft) -> bool:
    """Whether some of its clusters hang on the figure."""
    mine = set(s.clusters)
    return any(j.child in mine and j.parent not in mine for j in f.joints)


def _plain(x: float) -> str:
    return f"{x:.0f}" if x >= 100.0 else f"{x:.2g}"


def _count(volume: float, size: float) -> int:
    return min(max(round(volume / max(size, 1e-3) ** 3), 1), MOST_CLUSTERS)
