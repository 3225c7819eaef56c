"""The only place with colours, distances and type sizes. Contrast of text is at least 4.5 to 1 (a test holds it)."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from PySide6.QtGui import QColor, QPalette

from jugal.model.result import Verdict
from jugal.model.strip import Matter


@dataclass(frozen=True, slots=True, eq=False)
class Theme:
    """One set of colours, as #rrggbb."""

    name: str
    ground: str
    surface: str
    raised: str
    line: str
    ink: str
    soft_ink: str
    accent: str
    on_accent: str
    selection: str
    warning: str
    matter: dict[Matter, str]
    verdict: dict[Verdict, str]

    @property
    def matter_payload(self) -> str:
        return self.matter[Matter.PAYLOAD]

    @property
    def matter_damaged(self) -> str:
        return self.matter[Matter.DAMAGED]


LIGHT = Theme(
    name="light", ground="#eef0ea", surface="#f9faf6", raised="#ffffff", line="#c9cec4", ink="#1c2625", soft_ink="#4c5a58",
    accent="#1c5f63", on_accent="#ffffff", selection="#d7e6e2", warning="#8a3b12",
    matter={
        Matter.STRUCTURE: "#34506e", Matter.PAYLOAD: "#9db8ae", Matter.HOLE: "#fbfbf8", Matter.FILLER: "#e6dcc2", Matter.FOREIGN: "#b0568c",
        Matter.DAMAGED: "#d98a2b", Matter.PAST_END: "#d9dcd4", Matter.MISSING: "#f9faf6", Matter.UNEXPLAINED: "#b9bdb3",
    },
    verdict={
        Verdict.INTACT: "#24604a", Verdict.REPAIRABLE: "#1d5c86", Verdict.DAMAGED: "#8a4f0a", Verdict.UNRECOVERABLE: "#8d2a3a", Verdict.UNRECOGNISED: "#555f5c",
    },
)  # fmt: skip
DARK = Theme(
    name="dark", ground="#151b1c", surface="#1b2324", raised="#222c2d", line="#394648", ink="#e7ece8", soft_ink="#a9b6b2",
    accent="#6fc0b8", on_accent="#0d1817", selection="#2b4244", warning="#f0a37a",
    matter={
        Matter.STRUCTURE: "#7e9fc6", Matter.PAYLOAD: "#4f6f66", Matter.HOLE: "#0f1415", Matter.FILLER: "#5c5238", Matter.FOREIGN: "#c873a5",
        Matter.DAMAGED: "#d9953f", Matter.PAST_END: "#30393a", Matter.MISSING: "#1b2324", Matter.UNEXPLAINED: "#4b5552",
    },
    verdict={
        Verdict.INTACT: "#86cdb0", Verdict.REPAIRABLE: "#8fc4ea", Verdict.DAMAGED: "#e8b36b", Verdict.UNRECOVERABLE: "#f09aa6", Verdict.UNRECOGNISED: "#b3bdb9",
    },
)  # fmt: skip

#: Distances in pixels at a font of 10 points; everything else grows with the font.
GAP = 8
MARGIN = 14
ROW_HEIGHT = 54
OPEN_ROW_HEIGHT = 176
THUMB_WIDTH = 76
STRIP_HEIGHT = 22
#: A cell of the contact sheet and the picture in it.
CELL_WIDTH = 180
CELL_PICTURE = 118


_BASE = {
    name: globals()[name]
    for name in (
        "GAP",
        "MARGIN",
        "ROW_HEIGHT",
        "OPEN_ROW_HEIGHT",
        "THUMB_WIDTH",
        "STRIP_HEIGHT",
        "CELL_WIDTH",
        "CELL_PICTURE",
    )
}
_BASE_POINTS = 10.0


def grow(points: float) -> None:
    """Sets all distances for a font of ``points``, 10 to 20; called once, before the window is built."""
    factor = min(2.0, max(1.0, points / _BASE_POINTS))
    globals().update({name: round(value * factor) for name, value in _BASE.items()})


def scaled(pixels: int) -> int:
    """A distance given for the base font, at the font in use."""
    return round(pixels * ROW_HEIGHT / _BASE["ROW_HEIGHT"])


def luminance(colour: str) -> float:
    """Relative luminance of a #rrggbb colour (WCAG 2.2)."""
    parts = [int(colour[i : i + 2], 16) / 255 for i in (1, 3, 5)]
    linear = [p / 12.92 if p <= 0.04045 else ((p + 0.055) / 1.055) ** 2.4 for p in parts]
    return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]


def contrast(one: str, other: str) -> float:
    """Contrast ratio of two colours, 1 to 21 (WCAG 2.2)."""
    high, low = sorted((luminance(one), luminance(other)), reverse=True)
    return (high + 0.05) / (low + 0.05)


def text_pairs(theme: Theme) -> list[tuple[str, str]]:
    """Every text colour with every ground it stands on."""
    grounds = (theme.ground, theme.surface, theme.raised, theme.selection)
    inks = (theme.ink, theme.soft_ink, theme.warning, *theme.verdict.values())
    return [(ink, ground) for ink in inks for ground in grounds] + [
        (theme.on_accent, theme.accent),
        (theme.accent, theme.surface),
        (theme.ink, theme.line),
    ]


def palette(theme: Theme) -> QPalette:
    """The colours of what the style draws by itself."""
    made = QPalette()
    role = QPalette.ColorRole
    for name, colour in (
        (role.Window, theme.ground), (role.WindowText, theme.ink), (role.Base, theme.raised), (role.Text, theme.ink),
        (role.Button, theme.raised), (role.ButtonText, theme.ink), (role.Highlight, theme.accent), (role.HighlightedText, theme.on_accent),
        (role.ToolTipBase, theme.raised), (role.ToolTipText, theme.ink), (role.PlaceholderText, theme.soft_ink), (role.Mid, theme.line),
    ):  # fmt: skip
        made.setColor(name, QColor(colour))
    return made


def _tick(theme: Theme) -> str:
    """The file of the tick in boxes that are ticked, in the colour that reads on the accent."""
    name = "tick-white.svg" if QColor(theme.on_accent).lightness() > 127 else "tick-dark.svg"
    return (Path(__file__).parent / name).as_posix()


def stylesheet(theme: Theme) -> str:
    """The application's style sheet."""
    t = theme
    return f"""
QWidget {{ background: {t.ground}; color: {t.ink}; }}
QMainWindow, QStackedWidget {{ background: {t.ground}; }}
QLabel {{ background: transparent; }}
QLabel[role="soft"] {{ color: {t.soft_ink}; }}
QLabel[role="warning"] {{ color: {t.warning}; }}
QLabel[role="title"] {{ font-size: 15pt; font-weight: 600; }}
QLabel[role="heading"] {{ font-weight: 600; }}
QPushButton, QToolButton {{ background: {t.raised}; border: 1px solid {t.line}; border-radius: 3px; padding: 5px 12px; }}
QPushButton:hover, QToolButton:hover {{ border-color: {t.accent}; }}
QPushButton:focus, QToolButton:focus {{ border: 2px solid {t.accent}; padding: 4px 11px; }}
QPushButton:disabled, QToolButton:disabled {{ color: {t.soft_ink}; background: {t.surface}; }}
QPushButton[role="main"] {{ background: {t.accent}; color: {t.on_accent}; border-color: {t.accent}; font-weight: 600; }}
QPushButton[role="main"]:disabled {{ background: {t.line}; color: {t.ink}; border-color: {t.line}; }}
QToolButton[role="word"] {{ border: none; border-bottom: 2px dotted {t.accent}; border-radius: 0; background: transparent; padding: 2px 4px; color: {t.ink}; }}
QToolButton[role="word"]:focus {{ border-bottom: 2px solid {t.accent}; }}
QToolButton[role="token"] {{ background: {t.selection}; border: 1px solid {t.accent}; border-radius: 2px; padding: 3px 7px; color: {t.ink}; }}
QToolButton[role="token"]:focus {{ border: 2px solid {t.accent}; padding: 2px 6px; }}
QTabBar {{ background: transparent; }}
QTabBar::tab {{ background: transparent; color: {t.soft_ink}; border: none; border-bottom: 2px solid transparent; padding: 4px 10px; }}
QTabBar::tab:selected {{ color: {t.ink}; border-bottom: 2px solid {t.accent}; }}
QTabBar:focus {{ border-bottom: 1px solid {t.accent}; }}
QToolButton::menu-indicator {{ image: none; width: 0; }}
QToolButton[role="station"] {{ border: none; border-radius: 0; background: transparent; padding: 8px 12px 9px 12px; text-align: left; }}
QToolButton[role="station"]:checked {{ background: {t.surface}; border-top: 3px solid {t.accent}; padding-top: 5px; color: {t.accent}; }}
QToolButton[role="station"]:focus {{ border-bottom: 2px solid {t.accent}; padding-bottom: 7px; }}
QLineEdit {{ background: {t.raised}; border: 1px solid {t.line}; border-radius: 3px; padding: 4px 6px; selection-background-color: {t.accent}; selection-color: {t.on_accent}; }}
QLineEdit:focus {{ border: 1px solid {t.accent}; }}
QAbstractItemView {{ background: {t.surface}; alternate-background-color: {t.surface}; border: 1px solid {t.line}; selection-background-color: {t.selection}; selection-color: {t.ink}; outline: none; }}
QListView::item {{ padding: {scaled(2)}px 0; min-height: {scaled(15)}px; }}
QAbstractSpinBox {{ min-height: {scaled(22)}px; }}
QHeaderView::section {{ background: {t.ground}; color: {t.soft_ink}; border: none; border-bottom: 1px solid {t.line}; padding: 4px 6px; }}
QProgressBar {{ background: {t.line}; border: none; height: 4px; max-height: 4px; }}
QProgressBar::chunk {{ background: {t.accent}; }}
QMenu {{ background: {t.raised}; border: 1px solid {t.line}; }}
QMenu::item {{ padding: 5px 22px; }} QMenu::item:selected {{ background: {t.selection}; }}
QCheckBox {{ background: transparent; spacing: 7px; }}
QCheckBox:focus {{ color: {t.accent}; }}
QCheckBox::indicator, QListView::indicator, QTableView::indicator {{ width: {scaled(13)}px; height: {scaled(13)}px; border: 1px solid {t.soft_ink}; border-radius: 2px; background: {t.raised}; }}
QCheckBox::indicator:checked, QListView::indicator:checked, QTableView::indicator:checked {{ background: {t.accent}; border: 1px solid {t.ink}; image: url("{_tick(t)}"); }}
QCheckBox::indicator:checked:disabled {{ background: {t.soft_ink}; }}
QCheckBox:disabled {{ color: {t.soft_ink}; }}
QScrollArea {{ border: none; }}
QFrame[role="card"] {{ background: {t.surface}; border: 1px solid {t.line}; border-radius: 4px; }}
QFrame[role="card"] QWidget {{ background: {t.surface}; }}
QFrame[role="card"] QPushButton {{ background: {t.raised}; }}
QFrame[role="card"] QPushButton[role="main"] {{ background: {t.accent}; }}
QFrame[role="card"] QPushButton[role="main"]:disabled {{ background: {t.line}; color: {t.ink}; border-color: {t.line}; }}
QScrollBar {{ background: {t.ground}; border: none; }}
QScrollBar:vertical {{ width: 12px; }} QScrollBar:horizontal {{ height: 12px; }}
QScrollBar::handle {{ background: {t.soft_ink}; border: 3px solid {t.ground}; border-radius: 5px; min-height: 30px; min-width: 30px; }}
QScrollBar::add-line, QScrollBar::sub-line, QScrollBar::add-page, QScrollBar::sub-page {{ background: none; border: none; width: 0; height: 0; }}
QFrame[role="bar"] {{ background: {t.ground}; border-bottom: 1px solid {t.line}; }}
QFrame[role="palette"] {{ background: {t.raised}; border: 2px solid {t.accent}; border-radius: 4px; }}
QPlainTextEdit {{ background: {t.surface}; border: 1px solid {t.line}; selection-background-color: {t.accent}; selection-color: {t.on_accent}; }}
QSplitter::handle {{ background: {t.ground}; width: 6px; }}
QToolTip {{ background: {t.raised}; color: {t.ink}; border: 1px solid {t.line}; }}
"""
