"""A question with a few answers, in plain text whatever names it holds."""

from collections.abc import Sequence

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QMessageBox, QWidget


def ask(parent: QWidget, name: str, words: str, answers: Sequence[tuple[str, str]], stay: str) -> str:
    """The id of the answer that is chosen, of ``answers`` (id, words); empty for ``stay``, which Return and Escape give. ``name``: what the question is called by tests and screen readers."""
    box = QMessageBox(parent)
    box.setObjectName(name)
    box.setWindowTitle("Artuline")
    box.setTextFormat(Qt.TextFormat.PlainText)
    box.setText(words)
    roles = [QMessageBox.ButtonRole.AcceptRole, *[QMessageBox.ButtonRole.DestructiveRole] * (len(answers) - 1)]
    made = {box.addButton(text, role): id_ for (id_, text), role in zip(answers, roles)}
    last = box.addButton(stay, QMessageBox.ButtonRole.RejectRole)
    box.setDefaultButton(last)
    box.setEscapeButton(last)
    box.exec()
    return made.get(box.clickedButton(), "")  # type: ignore[call-overload, no-any-return]
