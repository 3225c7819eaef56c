"""Qt actions made from the registry."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtGui import QAction, QKeySequence
from PySide6.QtWidgets import QWidget

from jugal.app.actions.registry import ACTIONS


def build_actions(
    window: QWidget, handlers: dict[str, Callable[[], None]], places: dict[str, QWidget]
) -> dict[str, QAction]:
    """One QAction for each record, owned by the place it applies to, its keys live there."""
    built: dict[str, QAction] = {}
    for spec in ACTIONS:
        owner = places.get(spec.place, window)
        action = QAction(spec.text, owner)
        action.setObjectName(spec.ident)
        action.setCheckable(spec.turns)
        action.setShortcut(QKeySequence(spec.keys))
        context = Qt.ShortcutContext.WidgetWithChildrenShortcut if spec.place else Qt.ShortcutContext.WindowShortcut
        action.setShortcutContext(context)
        action.setToolTip(
            f"{spec.help or spec.text.rstrip('…')} ({QKeySequence(spec.keys).toString(QKeySequence.SequenceFormat.NativeText)})"
        )
        action.triggered.connect(lambda _=False, call=handlers[spec.ident]: call())
        owner.addAction(action)
        built[spec.ident] = action
    return built
