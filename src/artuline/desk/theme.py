"""Colours, type, sizes and icons of the window: the only place that knows them."""

import tempfile
from functools import cache
from importlib.resources import files
from pathlib import Path

import qtawesome
from PySide6.QtCore import QByteArray
from PySide6.QtGui import QColor, QFont, QFontDatabase, QIcon, QPalette, QPixmap
from PySide6.QtWidgets import QApplication

from artuline.view.palette import DAY, NIGHT, Palette

UNIT = 4
CONTROL = 26
SMALL, PLAIN, LARGE = 11, 13, 16
FAMILY = "Artuline Sans"

_now: Palette = DAY


def palette() -> Palette:
    """The palette in use."""
    return _now


def color(name: str, alpha: float = 1.0) -> QColor:
    """A palette colour by its meaning."""
    c = QColor(getattr(_now, name))
    c.setAlphaF(alpha)
    return c


def font(size: int = PLAIN, strong: bool = False) -> QFont:
    """The shipped family; its figures are tabular."""
    f = QFont(FAMILY)
    f.setPixelSize(size)
    f.setWeight(QFont.Weight.DemiBold if strong else QFont.Weight.Normal)
    return f


def icon(name: str, tint: str = "ink") -> QIcon:
    """An icon of the Material Design set in a palette colour."""
    return qtawesome.icon(f"mdi6.{name}", color=color(tint), color_disabled=color("faint", 0.55))


def load_fonts() -> None:
    """Register the shipped fonts with Qt."""
    for name in ("ArtulineSans-400.ttf", "ArtulineSans-600.ttf"):
        data = files("artuline.desk").joinpath("fonts", name).read_bytes()
        QFontDatabase.addApplicationFontFromData(QByteArray(data))


def apply(app: QApplication, night: bool = False) -> None:
    """Dress the application."""
    global _now
    _now = NIGHT if night else DAY
    if app.style().objectName().lower() != "fusion":
        app.setStyle("Fusion")
    app.setFont(font())
    p = QPalette()
    for role, name in (
        (QPalette.ColorRole.Window, "panel"),
        (QPalette.ColorRole.Base, "raised"),
        (QPalette.ColorRole.AlternateBase, "paper"),
        (QPalette.ColorRole.Button, "panel"),
        (QPalette.ColorRole.Text, "ink"),
        (QPalette.ColorRole.WindowText, "ink"),
        (QPalette.ColorRole.ButtonText, "ink"),
        (QPalette.ColorRole.ToolTipBase, "raised"),
        (QPalette.ColorRole.ToolTipText, "ink"),
        (QPalette.ColorRole.PlaceholderText, "faint"),
        (QPalette.ColorRole.Highlight, "teal"),
        (QPalette.ColorRole.HighlightedText, "raised"),
    ):
        p.setColor(role, color(name))
    app.setPalette(p)
    app.setStyleSheet(_sheet(_now))


@cache
def _folder() -> tempfile.TemporaryDirectory | None:  # type: ignore[type-arg]
    """A folder of this process alone, gone with it; None where no temporary files can be made."""
    try:
        return tempfile.TemporaryDirectory(prefix="artuline-", ignore_cleanup_errors=True)
    except OSError:
        return None


def _arrow(c: Palette) -> str:
    """A file with the arrow of the choice boxes: style sheets take pictures from files only. Empty where there is no place for it: the boxes then have the system's."""
    folder = _folder()
    if folder is None:
        return ""
    path = Path(folder.name) / f"arrow-{c.name}.png"
    if not path.exists():
        qtawesome.icon("mdi6.chevron-down", color=c.faint).pixmap(24, 24).save(str(path), "PNG")
    return path.as_posix()


def application_icon() -> QIcon:
    """The program's own mark: a limb of two parts, keyed above and under physics below its joint."""
    pixels = QPixmap()
    pixels.loadFromData(files("artuline.desk").joinpath("artuline.png").read_bytes())
    return QIcon(pixels)


def _sheet(c: Palette) -> str:
    return f"""
    * {{ font-family: "{FAMILY}"; font-size: {PLAIN}px; color: {c.ink}; }}
    QMainWindow, QWidget#panel {{ background: {c.panel}; }}
    QWidget#rail {{ background: {c.paper}; border-right: 1px solid {c.rule}; }}
    QWidget#bar {{ background: {c.paper}; border-bottom: 1px solid {c.rule}; }}
    QWidget#bar QToolButton {{ min-height: 24px; padding: 0 6px; }}
    QFrame#line {{ background: {c.rule}; max-height: 1px; min-height: 1px; border: none; }}
    QLabel#title {{ font-size: {LARGE}px; font-weight: 600; }}
    QLabel#section {{ font-size: {SMALL}px; font-weight: 600; color: {c.faint}; letter-spacing: 1px; }}
    QLabel#faint {{ color: {c.faint}; }}
    QLabel#keyed {{ color: {c.teal_text}; font-weight: 600; }}
    QLabel#physics {{ color: {c.vermilion_text}; font-weight: 600; }}
    QLabel#fault {{ color: {c.crimson_text}; font-weight: 600; }}
    QLabel#small, QPushButton#small {{ font-size: {SMALL}px; color: {c.faint}; }}
    QPushButton {{ min-height: {CONTROL - 2}px; padding: 0 10px; background: {c.raised};
        border: 1px solid {c.rule}; border-radius: 3px; }}
    QPushButton:hover {{ border-color: {c.faint}; }}
    QPushButton:pressed, QPushButton:checked {{ background: {c.rule}; }}
    QPushButton#fold, QPushButton#fold:checked {{ background: transparent; border: 1px solid transparent; padding: 0; text-align: left; }}
    QPushButton#fold:hover {{ background: {c.paper}; }}
    QPushButton:focus, QToolButton:focus, QComboBox:focus, QLineEdit:focus {{ border: 1px solid {c.ink}; }}
    QLabel:disabled {{ color: {c.faint}; }}
    QPushButton:disabled {{ color: {c.faint}; background: {c.panel}; }}
    QPushButton#primary {{ background: {c.ink}; color: {c.raised}; border-color: {c.ink}; font-weight: 600; }}
    QPushButton#primary:hover {{ background: {c.faint}; }}
    QPushButton#primary:disabled {{ background: {c.panel}; color: {c.faint}; border-color: {c.rule}; }}
    QToolButton {{ min-height: {CONTROL - 2}px; min-width: {CONTROL - 2}px; border: 1px solid transparent;
        border-radius: 3px; background: transparent; padding: 0 3px; }}
    QToolButton:hover {{ background: {c.panel}; border-color: {c.rule}; }}
    QToolButton:checked {{ background: {c.rule}; }}
    QWidget#rail QToolButton {{ min-width: 58px; min-height: 46px; font-size: {SMALL}px; border-radius: 0; }}
    QWidget#rail QToolButton:focus {{ border: 2px solid {c.ink}; }}
    QCheckBox:focus {{ border: 1px solid {c.ink}; border-radius: 3px; }}
    QSlider:focus {{ border: 1px solid {c.ink}; border-radius: 3px; }}
    QTreeView:focus {{ border: 1px solid {c.faint}; }}
    QLineEdit#refused {{ border: 2px solid {c.crimson}; }}
    QTextBrowser {{ background: {c.raised}; border: 1px solid {c.rule}; padding: 6px; }}
    QWidget#rail QToolButton:checked {{ background: {c.panel}; border-left: 3px solid {c.ink}; font-weight: 600; }}
    QLineEdit {{ min-height: {CONTROL - 2}px; border: 1px solid {c.rule}; border-radius: 3px;
        background: {c.raised}; padding: 0 6px; selection-background-color: {c.teal}; }}
    QLineEdit:hover, QComboBox:hover {{ border-color: {c.faint}; }}
    QLineEdit:disabled {{ color: {c.faint}; background: {c.panel}; }}
    QComboBox {{ min-height: {CONTROL - 2}px; border: 1px solid {c.rule}; border-radius: 3px;
        background: {c.raised}; padding: 0 6px; }}
    QComboBox::drop-down {{ border: none; width: 20px; }}
    QComboBox::down-arrow {{ image: url({_arrow(c)}); width: 12px; height: 12px; }}
    QToolButton::menu-indicator {{ image: none; }}
    QComboBox QAbstractItemView {{ background: {c.raised}; border: 1px solid {c.rule}; }}
    QTreeView {{ background: {c.panel}; border: none; outline: none; }}
    QTreeView::item {{ min-height: 22px; }}
    QTreeView::item:hover {{ background: {c.paper}; }}
    QTreeView::item:selected {{ background: {c.rule}; color: {c.ink}; }}
    QScrollArea, QScrollArea > QWidget > QWidget {{ background: {c.panel}; border: none; }}
    QScrollBar:vertical {{ background: transparent; width: 9px; margin: 0; }}
    QScrollBar::handle:vertical {{ background: {c.rule}; border-radius: 4px; min-height: 24px; }}
    QScrollBar:horizontal {{ background: transparent; height: 9px; margin: 0; }}
    QScrollBar::handle:horizontal {{ background: {c.rule}; border-radius: 4px; min-width: 24px; }}
    QScrollBar::add-line, QScrollBar::sub-line, QScrollBar::add-page, QScrollBar::sub-page {{ background: none; height: 0; width: 0; }}
    QSplitter::handle {{ background: {c.rule}; }}
    QToolTip {{ background: {c.raised}; color: {c.ink}; border: 1px solid {c.rule}; padding: 4px; }}
    QMenu {{ background: {c.raised}; border: 1px solid {c.rule}; }}
    QMenu::item {{ padding: 4px 22px; }}
    QMenu::item:selected {{ background: {c.rule}; }}
    QMenuBar {{ background: {c.paper}; border-bottom: 1px solid {c.rule}; }}
    QMenuBar::item {{ padding: 4px 9px; background: transparent; }}
    QMenuBar::item:selected {{ background: {c.rule}; }}
    QProgressBar {{ border: 1px solid {c.rule}; border-radius: 3px; background: {c.raised}; text-align: center;
        min-height: 16px; max-height: 16px; }}
    QProgressBar::chunk {{ background: {c.vermilion}; }}
    QWidget#strip {{ background: {c.paper}; border-top: 1px solid {c.rule}; }}
    QWidget#card {{ background: {c.raised}; border: 1px solid {c.rule}; border-radius: 4px; }}
    QWidget#overlay {{ background: {c.paper}; border: 1px solid {c.rule}; border-radius: 4px; }}
    QSlider::groove:horizontal {{ height: 3px; background: {c.rule}; }}
    QSlider::handle:horizontal {{ background: {c.ink}; width: 12px; margin: -6px 0; border-radius: 6px; }}
    QSlider::sub-page:horizontal {{ background: {c.vermilion}; }}
    """
