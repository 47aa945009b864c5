"""What is chosen: bones of one figure, or an obstacle."""

from dataclasses import dataclass, field

from artuline.core.scene.model import Scene


@dataclass(frozen=True)
class Selection:
    """Bones of a figure by their names, or an obstacle by its id; never both."""

    figure: str | None = None
    bones: frozenset[str] = field(default_factory=frozenset)
    obstacle: str | None = None

    def of(self, figure: str) -> frozenset[str]:
        """The chosen bones of a figure; none if another one is meant."""
        return self.bones if self.figure == figure else frozenset()

    def within(self, scene: Scene) -> "Selection":
        """What of it there is in a scene."""
        f = next((f for f in scene.figures if f.id == self.figure), None)
        obstacle = self.obstacle if any(o.id == self.obstacle for o in scene.obstacles) else None
        if f is None:
            return Selection(obstacle=obstacle)
        return Selection(f.id, frozenset(b for b in self.bones if b in f.bone_index), obstacle)
