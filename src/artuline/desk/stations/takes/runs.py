"""A run of the scene beside the window; its frames are seen on the stage as they come."""

from PySide6.QtCore import QObject, QTimer

from artuline.core.motion.skeleton import Pose
from artuline.core.run.kept import again, same
from artuline.core.run.prepare import ensure_kernels
from artuline.core.run.record import keep_take, run
from artuline.core.run.take import Take
from artuline.desk.desk import Desk

LOOK = 40  # milliseconds between two looks at the frame that it has come to


class Runs(QObject):
    """Simulates the range and keeps the take."""

    def __init__(self, desk: Desk, station: str):
        # ends with the stage: a job may end after it
        super().__init__(desk.stage)
        self.desk, self._station = desk, station
        self._seen: list[tuple[int, dict[str, Pose]]] = []
        self._watching = QTimer(self)
        self._watching.setInterval(LOOK)
        self._watching.timeout.connect(self._watch)
        desk.jobs.ended.connect(self._ended)

    def run(self) -> None:
        """Simulate the range in the background and keep the take."""
        session = self.desk.session
        scene, assets = session.scene, session.assets
        settings = scene.settings_fingerprint()

        def then(take: Take) -> None:
            session.edit("Run", lambda s: keep_take(s, assets, take, settings))
            self.desk.go(self._station)
            session.autosave()

        # the run's thread writes here; the window's looks, while this run is the one it is about
        seen: list[tuple[int, dict[str, Pose]]] = []

        def watch(frame: int, poses: dict[str, Pose]) -> None:
            seen[:] = [(frame, poses)]

        def work(progress, cancelled):  # type: ignore[no-untyped-def]
            ensure_kernels(progress, cancelled)
            return run(scene, assets, progress, cancelled, partial=True, watch=watch)

        if self.desk.start("Simulating", work, then):
            self._seen = seen
            self._watching.start()

    def again(self) -> None:
        """Steer the current take once more from its input, beside the window, and say whether it is the same."""
        session = self.desk.session
        ref, assets = session.scene.active_take(), session.assets
        assert ref is not None

        def work(progress, cancelled):  # type: ignore[no-untyped-def]
            ensure_kernels(progress, cancelled)
            return same(again(ref, assets, progress, cancelled), ref, assets)

        def then(alike: bool) -> None:
            (self.desk.tell if alike else self.desk.fault)(
                f"{ref.name} came out the same to the bit."
                if alike
                else f"{ref.name} came out otherwise than it was steered."
            )

        self.desk.start("Steering again", work, then)

    def not_steered(self) -> str:
        """Why the current take cannot be steered again."""
        ref = self.desk.session.scene.active_take()
        return "" if ref is not None and ref.steered else "keep something that was steered first."

    def _watch(self) -> None:
        if self._seen:
            self.desk.stage.show_running(self._seen[0])

    def _ended(self) -> None:
        self._seen = []
        self._watching.stop()
        self.desk.stage.show_running(None)
