"""Text that is shown as it is: names come from files of strangers, and the toolkit takes what looks like markup for markup."""

import html
import unicodedata

from PySide6.QtGui import Qt

MOST = 600  # letters that are shown of a text


def clean(text: str, most: int = MOST) -> str:
    """A text without signs that are none to see or that turn what follows about, and not longer than ``most`` letters."""
    if len(text) > most:
        half = (most - 1) // 2
        text = f"{text[:half]}…{text[len(text) - half :]}"
    if text.isascii() and text.isprintable():
        return text
    return "".join(c if c == "\n" or unicodedata.category(c) not in _UNSEEN else "\ufffd" for c in text)


_UNSEEN = {"Cc", "Cf", "Cs", "Co", "Zl", "Zp"}


def tip(text: str) -> str:
    """A tooltip that shows a text as it is, whatever it looks like."""
    text = clean(text)
    return f"<span>{html.escape(text)}</span>" if Qt.mightBeRichText(text) else text


def unmarked(text: str, most: int = MOST) -> str:
    """The words of a button or a menu: without letters to press."""
    return clean(text, most).replace("&", "&&")
