"""What the shown take is compared with, and how the two are seen."""

from artuline.core.run.take import Take
from artuline.core.scene.model import TakeRef
from artuline.desk.model.session import Session

HOWS = ("over", "beside", "wiped")


class Comparison:
    """Another take, or the keys; over each other, side by side, or wiped at a share of the width."""

    def __init__(self, session: Session):
        self._session = session
        self.other: str | None = None
        self.how = "over"
        self.wipe = 0.5

    def ref(self) -> TakeRef | None:
        """The other take as the scene lists it; None for the keys."""
        return next((t for t in self._session.scene.takes if t.id == self.other), None)

    def take(self) -> Take | None:
        """The other take; None for the keys."""
        return self._session.take_of(self.ref())
