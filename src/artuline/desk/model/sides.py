"""Edits of bodies and joints that go to the other side of the figure as well."""

from artuline.core.scene import edit
from artuline.core.scene.model import Figure, Link, Scene
from artuline.core.setup.mirror import mirror_bodies, mirror_joints, mirror_link, mirror_pairs


class Sides:
    """Whether edits go to both sides, and how they do."""

    def __init__(self) -> None:
        self.both = True

    def set_both(self, on: bool) -> None:
        """Whether edits go to the other side as well."""
        self.both = on

    def bodies(self, s: Scene, figure: str, ids: set[str]) -> Scene:
        """The scene with bodies carried over to the other side, if that is wanted."""
        return edit.map_figure(s, figure, lambda f: mirror_bodies(f, ids)) if self.both else s

    def joints(self, s: Scene, figure: str, ids: set[str]) -> Scene:
        """The same for joints."""
        return edit.map_figure(s, figure, lambda f: mirror_joints(f, ids)) if self.both else s

    def links(self, s: Scene, figure: str, link: Link) -> tuple[Link, ...]:
        """A new link of a figure's bodies with that of the other side, if that is wanted and there is one."""
        other = mirror_link(s.figure(figure), link) if self.both else None
        if other is None:
            return (link,)
        name = edit.fresh_id(link.id, {link.id, *(x.id for x in s.links)})
        return link, other.changed(id=name, name=name)

    def bones(self, f: Figure, bones: set[str]) -> set[str]:
        """Bones with those on the other side, if that is wanted."""
        pairs = mirror_pairs(f)
        return bones | {pairs[b] for b in bones if b in pairs} if self.both else bones
