"""What happened: every sentence the program has said, with its time, newest first."""

from __future__ import annotations

import datetime
import logging

from PySide6.QtCore import Qt
from PySide6.QtGui import QKeySequence, QShortcut
from PySide6.QtWidgets import QApplication, QFrame, QHBoxLayout, QLabel, QListWidget, QPushButton, QVBoxLayout

from jugal.app.style import tokens

log = logging.getLogger(__name__)
_MOST = 2000


class Happened(QFrame):
    """A panel under the places. It also writes each sentence to the log."""

    def __init__(self, log_words: str) -> None:
        super().__init__()
        box = QVBoxLayout(self)
        box.setContentsMargins(tokens.MARGIN, 4, tokens.MARGIN, 4)
        head = QHBoxLayout()
        title = QLabel("What happened")
        title.setProperty("role", "heading")
        where = QLabel(log_words)
        where.setProperty("role", "soft")
        where.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.copy = QPushButton("Copy all")
        self.copy.clicked.connect(self.copy_all)
        head.addWidget(title)
        head.addWidget(where, 1)
        head.addWidget(self.copy)
        box.addLayout(head)
        self.list = QListWidget()
        self.list.setAccessibleName("What happened, newest first")
        box.addWidget(self.list)
        self.setFixedHeight(tokens.scaled(130))
        QShortcut(QKeySequence.StandardKey.Copy, self.list, self.copy_all, context=Qt.ShortcutContext.WidgetShortcut)

    def add(self, sentence: str) -> None:
        """Puts a sentence on top."""
        log.info(sentence)
        self.list.insertItem(0, f"{datetime.datetime.now():%H:%M:%S}  {sentence}")
        while self.list.count() > _MOST:
            self.list.takeItem(self.list.count() - 1)

    def copy_all(self) -> None:
        lines = [self.list.item(i).text() for i in range(self.list.count())]
        QApplication.clipboard().setText("\n".join(reversed(lines)))
