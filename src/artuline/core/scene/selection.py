"""What is chosen: bones of one figure."""

from dataclasses import dataclass, field

from artuline.core.scene.model import Scene


@dataclass(frozen=True)
class Selection:
    """Bones of a figure by their names."""

    figure: str | None = None
    bones: frozenset[str] = field(default_factory=frozenset)

    def of(self, figure: str) -> frozenset[str]:
        """The chosen bones of a figure; none if another one is meant."""
        return self.bones if self.figure == figure else frozenset()

    def within(self, scene: Scene) -> "Selection":
        """What of it there is in a scene."""
        f = next((f for f in scene.figures if f.id == self.figure), None)
        if f is None:
            return Selection()
        return Selection(f.id, frozenset(b for b in self.bones if b in f.bone_index))
