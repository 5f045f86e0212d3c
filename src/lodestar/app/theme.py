"""How everything looks: colours, type, measures, icons. All sizes in px on a 4 px grid."""

import functools
from pathlib import Path

import numpy as np
from PyQt6.QtCore import QByteArray, QRectF, QSize, Qt
from PyQt6.QtGui import QColor, QFont, QFontDatabase, QIcon, QPainter, QPalette, QPixmap
from PyQt6.QtSvg import QSvgRenderer
from PyQt6.QtWidgets import QApplication

from lodestar.core.basics.colour import decode

ROOT = Path(__file__).parents[1]
WINDOW, PANEL, SURROUND, SCENE, FIELD, LINE = "#232527", "#2B2E31", "#191B1C", "#1E2022", "#1C1E20", "#3A3E42"
CHOSEN_ROW, CHOSEN_SEGMENT, BUTTON = "#383C40", "#44494E", "#3A3E42"
TEXT, READING, QUIET, OFF = "#E4E6E8", "#D5D9DC", "#9AA1A8", "#8A9198"
ACCENT, ON_ACCENT = "#8CC7E8", "#14202A"
GOOD, DOUBTFUL, BAD = "#4FB286", "#E3A644", "#E0674F"
AXES = ("#D9695F", "#6FB36B", "#6C93DB")
RAMP = ((0.12, "#F3ECDF"), (0.45, "#EEB785"), (0.85, "#D24A26"))
BRIGHTNESS = {"usual": 1.0, "darker": 0.7, "brighter": 1.3, "brightest": 1.6}  # of what lies round the picture, in code values
COURSE_WIDTH, SETTINGS_WIDTH, ROW_HEIGHT = 184, 304, 72


_GROUNDS = ("WINDOW", "PANEL", "SURROUND", "SCENE", "FIELD", "LINE", "CHOSEN_ROW", "CHOSEN_SEGMENT", "BUTTON")
_QUIET = ("QUIET", "OFF")
_USUAL = {name: globals()[name] for name in (*_GROUNDS, *_QUIET)}


def contrast(a: str, b: str) -> float:
    """Of two colours, from 1 to 21 (W3C, Web Content Accessibility Guidelines 2.1, 'contrast ratio')."""
    light = sorted(float(np.dot(decode(np.array(QColor(c).getRgbF()[:3]), "srgb"), (0.2126, 0.7152, 0.0722))) for c in (a, b))
    return (light[1] + 0.05) / (light[0] + 0.05)


def set_brightness(name: str) -> None:
    """Make all grounds darker or brighter, by a name in BRIGHTNESS; quiet words keep their contrast as far as full words have it."""
    share = BRIGHTNESS[name]
    new = {key: _scaled(_USUAL[key], share) for key in _GROUNDS}
    if all(QColor(globals()[key]) == QColor(value) for key, value in new.items()):
        return
    for key in _QUIET:
        wanted = contrast(_USUAL[key], _USUAL["PANEL"])
        mixes = [_mixed(_USUAL[key], TEXT, u / 20) for u in range(21)]
        new[key] = next((mix for mix in mixes if contrast(mix, new["PANEL"]) >= wanted), TEXT)
    globals().update(new)  # the names above are what everything is painted by
    app = QApplication.instance()
    if isinstance(app, QApplication):
        _dress(app)


def _scaled(name: str, share: float) -> str:
    return QColor(*(min(round(c * share), 255) for c in QColor(name).getRgb()[:3])).name()


def _mixed(a: str, b: str, share: float) -> str:
    return QColor(*(round(p + (q - p) * share) for p, q in zip(QColor(a).getRgb()[:3], QColor(b).getRgb()[:3], strict=True))).name()


def colour(name: str, alpha: float = 1.0) -> QColor:
    c = QColor(name)
    c.setAlphaF(alpha)
    return c


def error_colour(px: float) -> QColor:
    """The one ramp for errors: pale to ember, by px."""
    return _ramp(round(float(px), 2))


@functools.cache
def _ramp(px: float) -> QColor:
    if not px > RAMP[0][0]:
        return QColor(RAMP[0][1])
    for (a, first), (b, second) in zip(RAMP, RAMP[1:], strict=False):
        if px <= b:
            u, x, y = (px - a) / (b - a), QColor(first), QColor(second)
            return QColor(_mixed(x.name(), y.name(), u))
    return QColor(RAMP[-1][1])


def font(size: int = 13, weight: int = 400) -> QFont:
    f = QFont("Inter")
    f.setPixelSize(size)
    f.setWeight(QFont.Weight(weight))
    f.setFeature(QFont.Tag("tnum"), 1)
    return f


@functools.cache
def icon_pixmap(name: str, tint: str = TEXT, size: int = 16, ratio: float = 2.0) -> QPixmap:
    svg = (ROOT / "icons" / f"{name}.svg").read_text().replace("currentColor", tint).replace('stroke-width="2"', 'stroke-width="1.75"')
    pixmap = QPixmap(QSize(size, size) * ratio)
    pixmap.fill(Qt.GlobalColor.transparent)
    painter = QPainter(pixmap)
    QSvgRenderer(QByteArray(svg.encode())).render(painter, QRectF(0, 0, size * ratio, size * ratio))
    painter.end()
    pixmap.setDevicePixelRatio(ratio)
    return pixmap


def icon(name: str, tint: str = TEXT) -> QIcon:
    return QIcon(icon_pixmap(name, tint))


def _style() -> str:
    return f"""
* {{ outline: none; }}
QWidget {{ background: {WINDOW}; color: {TEXT}; font-size: 13px; }}
QToolTip {{ background: {FIELD}; color: {TEXT}; border: 1px solid {LINE}; padding: 4px 6px; }}
QMenuBar {{ background: {PANEL}; padding: 2px 8px; }}
QMenuBar::item {{ background: transparent; padding: 4px 8px; border-radius: 4px; }}
QMenuBar::item:selected {{ background: {CHOSEN_SEGMENT}; }}
QMenu {{ background: {PANEL}; border: 1px solid {LINE}; padding: 4px; }}
QMenu::item {{ padding: 5px 28px 5px 12px; border-radius: 4px; }}
QMenu::item:selected {{ background: {CHOSEN_SEGMENT}; }}
QMenu::item:disabled {{ color: {OFF}; }}
QMenu::separator {{ height: 1px; background: {LINE}; margin: 4px 8px; }}
QPushButton, QToolButton[role="button"] {{ background: {BUTTON}; border: 1px solid transparent; border-radius: 4px; padding: 5px 10px; min-height: 16px; }}
QPushButton:hover {{ background: {CHOSEN_SEGMENT}; }}
QPushButton:pressed {{ background: {LINE}; }}
QPushButton:disabled {{ color: {OFF}; background: {PANEL}; border-color: {LINE}; }}
QPushButton:focus {{ border-color: {ACCENT}; }}
QPushButton[role="main"] {{ background: {ACCENT}; color: {ON_ACCENT}; font-weight: 600; }}
QPushButton[role="main"]:disabled {{ background: {PANEL}; color: {OFF}; }}
QPushButton[role="section"] {{ font-weight: 600; padding: 0; border: none; background: transparent; text-align: left; }}
QPushButton[role="section"]:focus {{ color: {ACCENT}; }}
QPushButton[role="field"] {{ background: {FIELD}; padding: 2px 7px; min-height: 18px; text-align: center; }}
QPushButton[role="field"]:disabled {{ border-color: transparent; }}
QPushButton::menu-indicator {{ image: url({ROOT / "icons" / "chevron-field.svg"}); width: 14px; height: 14px; subcontrol-position: right center; right: 6px; }}
QPushButton[role="link"] {{ background: transparent; color: {ACCENT}; padding: 0; text-align: left; border: none; }}
QPushButton[role="name"] {{ background: transparent; padding: 0; text-align: left; border: none; }}
QPushButton[role="name"]:hover, QPushButton[role="name"]:focus {{ color: {ACCENT}; }}
QPushButton[role="link"]:hover, QPushButton[role="link"]:focus {{ text-decoration: underline; }}
QToolButton {{ background: transparent; border: 1px solid transparent; border-radius: 4px; padding: 3px 8px; color: {READING}; }}
QToolButton:hover {{ background: {CHOSEN_ROW}; }}
QToolButton:checked {{ border-color: {ACCENT}; color: {TEXT}; }}
QToolButton:focus {{ border-color: {QUIET}; }}
QToolButton:disabled {{ color: {OFF}; }}
QToolButton[role="menu"] {{ padding-right: 20px; }}
QToolButton::menu-indicator {{ image: url({ROOT / "icons" / "chevron-field.svg"}); width: 14px; height: 14px; subcontrol-origin: padding; subcontrol-position: right center; right: 4px; }}
QToolButton[role="segment"] {{ padding: 3px 10px; border: none; }}
QToolButton[role="segment"]:checked {{ background: {CHOSEN_SEGMENT}; color: {TEXT}; }}
QToolButton[role="segment"]:focus {{ color: {ACCENT}; }}
QLineEdit, QPlainTextEdit, QComboBox {{ background: {FIELD}; border: 1px solid transparent; border-radius: 4px; padding: 2px 7px; min-height: 18px;
    selection-background-color: {ACCENT}; selection-color: {ON_ACCENT}; }}
QLineEdit:focus, QPlainTextEdit:focus, QComboBox:focus {{ border-color: {ACCENT}; }}
QComboBox::drop-down {{ border: none; width: 20px; }}
QComboBox::down-arrow {{ image: url({ROOT / "icons" / "chevron-field.svg"}); width: 14px; height: 14px; }}
QToolButton[role="plain"]:checked {{ border-color: transparent; }}
QToolButton[role="plain"]:focus {{ border-color: {QUIET}; }}
QComboBox QAbstractItemView {{ background: {PANEL}; border: 1px solid {LINE}; selection-background-color: {CHOSEN_SEGMENT}; }}
QCheckBox {{ spacing: 6px; background: transparent; }}
QCheckBox::indicator {{ width: 9px; height: 9px; border: 1px solid {QUIET}; border-radius: 3px; background: transparent; }}
QCheckBox::indicator:checked {{ background: {READING}; border-color: {READING}; }}
QCheckBox:focus {{ color: {ACCENT}; }}
QCheckBox::indicator:focus {{ border-color: {ACCENT}; }}
QScrollArea, QScrollArea > QWidget > QWidget {{ background: {PANEL}; border: none; }}
QScrollBar:vertical {{ background: transparent; width: 8px; margin: 0; }}
QScrollBar::handle:vertical {{ background: {LINE}; border-radius: 4px; min-height: 24px; }}
QScrollBar::add-line, QScrollBar::sub-line, QScrollBar::add-page, QScrollBar::sub-page {{ background: none; height: 0; width: 0; }}
QScrollBar:horizontal {{ height: 0; }}
QListWidget {{ background: {PANEL}; border: 1px solid {LINE}; border-radius: 4px; }}
QListWidget::item {{ padding: 5px 8px; border-radius: 4px; }}
QListWidget::item:selected {{ background: {CHOSEN_SEGMENT}; color: {TEXT}; }}
QSplitter::handle {{ background: {LINE}; }}
#panel, #panel QWidget#plain, #course {{ background: {PANEL}; }}
#panel QLabel, #panel QCheckBox {{ background: transparent; }}
QWidget[role="panel"], QWidget[role="panel"] * {{ background: {PANEL}; }}
#invitation, #invitation QLabel {{ background: {SURROUND}; }}
#find-command {{ color: {QUIET}; }}
QPushButton#messages {{ color: {QUIET}; font-size: 12px; text-align: right; }}
QPushButton#messages:focus {{ color: {ACCENT}; }}
QCheckBox[role="tick"] {{ background: {WINDOW}; font-size: 12px; }}
QWidget[role="rule"] {{ background: {LINE}; }}
QLabel[role="hint"] {{ background: {SURROUND}; color: {QUIET}; font-size: 12px; padding: 2px 6px; border-radius: 4px; }}
QLabel[role="title"] {{ font-size: 15px; font-weight: 600; }}
QLabel[role="section"] {{ font-weight: 600; }}
QLabel[role="quiet"] {{ color: {QUIET}; font-size: 12px; }}
QLabel[role="label"] {{ color: {QUIET}; }}
QLabel[role="value"] {{ color: {TEXT}; }}
QLabel[role="reading"] {{ color: {READING}; font-size: 12px; }}
"""


def apply(app: QApplication) -> None:
    """Fonts, palette and style sheet of the whole program."""
    for name in ("Inter-Regular.otf", "Inter-SemiBold.otf"):
        QFontDatabase.addApplicationFont(str(ROOT / "fonts" / name))
    app.setStyle("Fusion")
    app.setFont(font())
    _dress(app)


def _dress(app: QApplication) -> None:
    """Palette and style sheet, in the colours as they are now."""
    palette = QPalette()
    for role, name in (
        (QPalette.ColorRole.Window, WINDOW),
        (QPalette.ColorRole.Base, FIELD),
        (QPalette.ColorRole.Text, TEXT),
        (QPalette.ColorRole.Link, ACCENT),
        (QPalette.ColorRole.WindowText, TEXT),
        (QPalette.ColorRole.Button, BUTTON),
        (QPalette.ColorRole.ButtonText, TEXT),
        (QPalette.ColorRole.Highlight, ACCENT),
        (QPalette.ColorRole.HighlightedText, ON_ACCENT),
    ):
        palette.setColor(role, QColor(name))
    app.setPalette(palette)
    app.setStyleSheet(_style())
