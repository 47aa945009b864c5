"""Long work on the bodies and joints of one figure, beside the window."""

from collections.abc import Callable

from artuline.core.checks.finding import Finding
from artuline.core.run.prepare import ensure_kernels
from artuline.core.scene import edit
from artuline.core.scene.model import Figure
from artuline.desk.desk import Desk

#: Parts of a figure from which its bodies are fitted
FITTED_FROM = ("bones", "asset", "unit", "bodies", "joints", "pairs_off", "self_collision", "mirror")
FigureWork = Callable[[Figure, Callable[[int, int], None], Callable[[], bool]], Figure]


def figure_job(
    desk: Desk,
    words: str,
    work: FigureWork,
    tell: str | Callable[[Figure], str] = "",
    figure: str | None = None,
    station: str = "",
) -> None:
    """Run ``work(figure, progress, cancelled) -> figure`` beside the window and make its bodies and joints an edit. What was edited
    on that figure meanwhile is not overwritten: then the result is dropped, and said so.
    """
    session = desk.session
    f = session.figure() if figure is None else session.scene.figure(figure)
    if f is None:
        desk.fault("Open a figure first.")
        return

    def then(made: Figure) -> None:
        now = next((x for x in session.scene.figures if x.id == f.id), None)
        if now is None:
            desk.fault(f"{f.name} is not there any more: the fit was dropped.")
            return
        if any(getattr(now, n) != getattr(f, n) for n in FITTED_FROM):
            desk.fault(f"{f.name} was edited meanwhile: the fit was dropped. Fit it again.")
            return
        if session.edit(words, lambda s: edit.ragdoll(s, made)):
            if station:
                desk.advance(station)
            said = tell(made) if callable(tell) else tell
            desk.tell(said or f"{len(made.bodies)} bodies and {len(made.joints)} joints on {made.name}")

    def prepared(progress: Callable[[int, int], None], cancelled: Callable[[], bool]) -> Figure:
        # shapes that overlap are found by the solver
        ensure_kernels(progress, cancelled)
        return work(f, progress, cancelled)

    desk.start(words, prepared, then)


def mend(desk: Desk, finding: Finding) -> None:
    """Mend what a check has found, where that takes long."""
    if finding.work is not None and finding.figure is not None:
        figure_job(desk, finding.fix_label, finding.work, figure=finding.figure)
