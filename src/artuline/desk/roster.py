"""The roster: figures and bones, and the state of each at a glance."""

from typing import Any

from PySide6.QtCore import QItemSelectionModel, QPoint, QRect, Qt, QTimer
from PySide6.QtGui import QMouseEvent, QPainter, QPen
from PySide6.QtWidgets import (
    QAbstractItemView,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QTreeWidget,
    QTreeWidgetItem,
)

from artuline.core.scene import edit
from artuline.core.scene.model import Figure
from artuline.desk import theme
from artuline.desk.model.plain import tip as plain_tip
from artuline.desk.model.session import Session
from artuline.view.stage import bone_handover

FIGURE, BONE, STATE, SHARE, GROUP, TARGET = (int(Qt.ItemDataRole.UserRole) + k for k in range(6))
START = 92  # pixels from the right at which the mark of a group's start stands


def _start_box(row: QRect) -> QRect:
    """Where the mark is that a group begins at a bone; it can be dragged to another."""
    return QRect(row.right() - START, row.top(), 18, row.height())


def _words(index) -> str:
    """How far a body is handed over; nothing for one on its keys, whose mark is a round disc."""
    share = float(index.data(SHARE) or 0.0)
    if index.data(STATE) != "body" or share <= 0.0:
        return ""
    return "physics" if share >= 1.0 else f"{100 * share:.0f} %"


class _Marks(QStyledItemDelegate):
    """Draws the state at the right: a filled disc for a body, a ring for a bone merged into one above, and how far
    it is handed over in words and colour.
    """

    def initStyleOption(self, option: QStyleOptionViewItem, index) -> None:
        super().initStyleOption(option, index)
        # typing of Qt's stubs: the option's fields are plain attributes
        item: Any = option
        room = item.rect.width() - (START + 2 if index.data(GROUP) else 72 if _words(index) else 24)
        item.text = item.fontMetrics.elidedText(item.text, Qt.TextElideMode.ElideMiddle, room)

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index) -> None:
        super().paint(painter, option, index)
        if index.data(GROUP) or index.data(TARGET):
            self._paint_start(painter, _start_box(option.rect), bool(index.data(TARGET)))
        state = index.data(STATE)
        if state is None:
            return
        share = float(index.data(SHARE) or 0.0)
        box = option.rect
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        mark = QRect(box.right() - 16, box.center().y() - 4, 9, 9)
        tint = theme.color("vermilion" if share > 0.5 else "teal")
        painter.setPen(tint)
        if state == "body":
            painter.setBrush(tint)
            if share > 0.5:
                painter.drawRoundedRect(mark, 2, 2)
            else:
                painter.drawEllipse(mark)
            painter.setFont(theme.font(theme.SMALL))
            painter.setPen(theme.color("vermilion_text" if share > 0.5 else "teal_text"))
            painter.drawText(
                QRect(box.right() - 72, box.top(), 52, box.height()),
                Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, _words(index),
            )  # fmt: skip
        elif state == "merged":
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(theme.color("faint"))
            painter.drawEllipse(mark.adjusted(1, 1, -1, -1))
        painter.restore()

    @staticmethod
    def _paint_start(painter: QPainter, box: QRect, target: bool) -> None:
        """A hook that opens downwards: from here down; in outline where it would come to."""
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        tint = theme.color("vermilion_text")
        painter.setPen(QPen(tint, 1.8, Qt.PenStyle.DotLine if target else Qt.PenStyle.SolidLine))
        x, y = box.center().x(), box.center().y()
        painter.drawPolyline([QPoint(x - 5, y - 5), QPoint(x + 2, y - 5), QPoint(x + 2, y + 4)])
        painter.drawPolyline([QPoint(x - 1, y + 1), QPoint(x + 2, y + 5), QPoint(x + 5, y + 1)])
        painter.restore()


class Roster(QTreeWidget):
    """A tree of figures and bones; its selection is the session's."""

    def __init__(self, session: Session):
        super().__init__()
        self.session = session
        self._dragged: tuple[str, str] | None = None
        self._target: QTreeWidgetItem | None = None
        self.setHeaderHidden(True)
        self.setIndentation(10)
        self.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.setItemDelegate(_Marks(self))
        self.setAccessibleName("Roster")
        self.setTextElideMode(Qt.TextElideMode.ElideMiddle)
        self.setToolTip("Disc: keyed body. Square: body under physics. Ring: bone carried by the body above it.")
        self._shape: object = None
        self.items: dict[tuple[str, str], QTreeWidgetItem] = {}
        self._quiet = False
        #: What every figure was marked by: itself, and how far its bones are handed over.
        self._marked: dict[str, tuple[Figure, bytes]] = {}
        self.itemSelectionChanged.connect(self._chosen)
        session.scene_changed.connect(self.rebuild)
        session.selection_changed.connect(self._follow)
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(60)
        self._later.timeout.connect(self.mark)
        session.frame_changed.connect(self._later.start)
        session.previewed.connect(self._later.start)
        self.rebuild()

    def rebuild(self) -> None:
        """Make the tree anew if bones changed; refresh the marks in any case."""
        shape = tuple((f.id, f.name, f.bones) for f in self.session.scene.figures)
        if shape != self._shape:
            self._shape = shape
            self._quiet = True
            self.clear()
            self.items.clear()
            self._marked.clear()
            for f in self.session.scene.figures:
                self._add(f)
            self._quiet = False
        self.mark()
        self._follow()

    def _add(self, f: Figure) -> None:
        top = QTreeWidgetItem(self, [f.name])
        top.setFont(0, theme.font(strong=True))
        top.setData(0, FIGURE, f.id)
        if f.obstacle and len(f.bones) == 1:
            # one row: it is its only bone
            top.setFont(0, theme.font(theme.PLAIN))
            top.setData(0, BONE, f.bones[0].name)
            self.items[f.id, f.bones[0].name] = top
            return
        # a bone is listed if it, or one below it, carries skin
        listed: set[str] = set()
        for b in reversed(f.bones):
            if (b.deforms or b.name in listed) and b.parent is not None:
                listed.add(b.parent)
            if b.deforms:
                listed.add(b.name)
        for b in f.bones:
            if b.name not in listed:
                continue
            # the parts of a strand are a list, not a tree as deep as it is long
            up = self.items.get((f.id, b.parent)) if b.parent and f.made is None else None
            item = QTreeWidgetItem(up or top, [b.name])
            item.setData(0, FIGURE, f.id)
            item.setData(0, BONE, b.name)
            self.items[f.id, b.name] = item
        self.expandItem(top)
        for b in f.bones if f.made is None else ():
            if (f.id, b.name) in self.items:
                self.expandItem(self.items[f.id, b.name])
        top.setExpanded(f.made is None)

    def mark(self) -> None:
        """Refresh the state marks."""
        before, self._marked = self._marked, {}
        for f in self.session.scene.figures:
            share = bone_handover(f, self.session.frame, self.session.scene.rate)
            self._marked[f.id] = f, share.tobytes()
            known = before.get(f.id)
            if known is not None and known[0] is f and known[1] == self._marked[f.id][1]:
                # of many figures few change at a time
                continue
            top = f.bones[min((f.bone_index[b.bone] for b in f.bodies), default=0)].name
            starts = {g.start_bone or top: g for g in f.groups if not g.bones}
            for b in f.bones:
                item = self.items.get((f.id, b.name))
                if item is None:
                    continue
                state = "body" if b.name in f.body_of else ("merged" if f.bodies and b.deforms else "")
                item.setData(0, STATE, state)
                item.setData(0, SHARE, float(share[f.bone_index[b.name]]))
                group = starts.get(b.name)
                item.setData(0, GROUP, group.id if group else None)
                words = f"{group.name}: drag the hook to begin at another bone" if group else b.name
                if item.toolTip(0) != words:
                    item.setToolTip(0, plain_tip(words))
        self.viewport().update()

    # dragging where a group begins

    def mousePressEvent(self, event: QMouseEvent) -> None:
        item = self.itemAt(event.position().toPoint())
        marked = item is not None and item.data(0, GROUP) and event.button() == Qt.MouseButton.LeftButton
        if item is not None and marked and _start_box(self.visualItemRect(item)).contains(event.position().toPoint()):
            self._dragged = item.data(0, FIGURE), item.data(0, GROUP)
            self.viewport().setCursor(Qt.CursorShape.ClosedHandCursor)
            return
        super().mousePressEvent(event)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._dragged is None:
            super().mouseMoveEvent(event)
            return
        item = self.itemAt(event.position().toPoint())
        fits = (
            item is not None
            and item.data(0, BONE)
            and item.data(0, FIGURE) == self._dragged[0]
            and item.data(0, STATE) == "body"
        )
        self._aim(item if fits else None)

    def _aim(self, item: QTreeWidgetItem | None) -> None:
        if self._target is not None:
            self._target.setData(0, TARGET, None)
        self._target = item
        if item is not None:
            item.setData(0, TARGET, True)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        dragged, target = self._dragged, self._target
        if dragged is None:
            super().mouseReleaseEvent(event)
            return
        bone = target.data(0, BONE) if target is not None else None
        self._dragged = None
        self._aim(None)
        self.viewport().unsetCursor()
        if bone is not None:
            figure, group = dragged
            self.session.edit("Change where it begins", lambda s: edit.begin_group(s, figure, group, bone))

    def _chosen(self) -> None:
        if self._quiet:
            return
        bones = [i for i in self.selectedItems() if i.data(0, BONE)]
        figure = bones[0].data(0, FIGURE) if bones else None
        if figure is None and self.selectedItems():
            figure = self.selectedItems()[0].data(0, FIGURE)
        chosen = frozenset(i.data(0, BONE) for i in bones if i.data(0, FIGURE) == figure)
        self._quiet = True
        self.session.select(figure, chosen)
        self._quiet = False

    def _follow(self) -> None:
        if self._quiet:
            return
        self._quiet = True
        self.clearSelection()
        s = self.session.selection
        for name in s.bones:
            item = self.items.get((s.figure or "", name))
            if item is not None:
                item.setSelected(True)
                self.setCurrentItem(item, 0, QItemSelectionModel.SelectionFlag.NoUpdate)
                self.scrollToItem(item)
        self._quiet = False
