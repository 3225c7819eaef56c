"""What a file shows: its picture, its pages, its words or its playing; beside it or wiped against it a repaired version."""

from __future__ import annotations

from PySide6.QtCore import QPointF, Signal
from PySide6.QtGui import QFontDatabase, QImage
from PySide6.QtWidgets import (
    QHBoxLayout,
    QPlainTextEdit,
    QPushButton,
    QSpinBox,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from jugal.app.bridge.decode import Preview
from jugal.app.bridge.player import Player
from jugal.app.bridge.previewer import Previewer
from jugal.app.style import tokens
from jugal.app.style.tokens import Theme
from jugal.app.views.intake import label
from jugal.app.widgets.picture import PictureView
from jugal.app.widgets.timeline import Timeline
from jugal.model.result import Examination, Kind

_WAIT = "The preview is being made …"


class Side(QWidget):
    """One version of a file: a caption, and under it a picture or words."""

    def __init__(self, theme: Theme, name: str, caption: str) -> None:
        super().__init__()
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        box.setSpacing(3)
        self.caption = label(caption, "soft")
        self.picture = PictureView(theme, name)
        self.words = QPlainTextEdit()
        self.words.setReadOnly(True)
        self.words.setAccessibleName(f"{name}, its words")
        self.words.setLineWrapMode(QPlainTextEdit.LineWrapMode.WidgetWidth)
        self.words.setFont(QFontDatabase.systemFont(QFontDatabase.SystemFont.FixedFont))
        self.stack = QStackedWidget()
        self.stack.addWidget(self.picture)
        self.stack.addWidget(self.words)
        box.addWidget(self.caption)
        box.addWidget(self.stack, 1)

    def show_preview(self, preview: Preview | None, waiting: str = "") -> None:
        """A picture, or a text that can be read and searched; short messages stand where the picture would."""
        long_text = preview is not None and not preview.width and len(preview.text) > 120
        if long_text and preview is not None:
            self.words.setPlainText(preview.text)
        self.stack.setCurrentIndex(1 if long_text else 0)
        if not long_text:
            self.picture.set_preview(preview, waiting)


class Stage(QWidget):
    """Two sides that show the same place at the same size; what has time plays, what has pages turns them."""

    said = Signal(str)

    def __init__(self, theme: Theme, previewer: Previewer) -> None:
        super().__init__()
        self._previewer = previewer
        self._examination: Examination | None = None
        self._result: str | None = None
        self._fallback: QImage | None = None
        self._wiping = False
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        self.before = Side(theme, "The file as it was found", "As found")
        self.after = Side(theme, "The repaired file", "Repaired")
        self.before.picture.moved.connect(self.after.picture.view)
        self.after.picture.moved.connect(self.before.picture.view)
        sides = QHBoxLayout()
        sides.addWidget(self.before, 1)
        sides.addWidget(self.after, 1)
        box.addLayout(sides, 1)
        box.addLayout(self._controls(theme))
        self.players = {"before": Player(self), "after": Player(self, sounding=False)}
        for key, side in (("before", self.before), ("after", self.after)):
            self.players[key].pictured.connect(side.picture.show_image)
        self.players["before"].moved.connect(self.timeline.show_at)
        self.players["before"].ended.connect(self._played)
        previewer.ready.connect(self._previewed)

    def _controls(self, theme: Theme) -> QHBoxLayout:
        row = QHBoxLayout()
        self.compare = QPushButton("Wipe")
        self.compare.setCheckable(True)
        self.compare.setAccessibleName("Wipe the two versions against one another")
        self.compare.toggled.connect(self._set_wiping)
        self.play = QPushButton("Play")
        self.play.clicked.connect(self.play_or_pause)
        self.timeline = Timeline(theme)
        self.timeline.sought.connect(self._seek)
        self.page_words = label("Page", "soft")
        self.page = QSpinBox()
        self.page.setMinimum(1)
        self.page.setAccessibleName("Page")
        self.page.valueChanged.connect(lambda _: self._ask())
        row.addWidget(self.compare)
        row.addWidget(self.play)
        row.addWidget(self.timeline, 1)
        row.addWidget(self.page_words)
        row.addWidget(self.page)
        row.addStretch(0)
        row.setSpacing(tokens.GAP)
        return row

    def set_theme(self, theme: Theme) -> None:
        self.before.picture.set_theme(theme)
        self.after.picture.set_theme(theme)
        self.timeline.set_theme(theme)

    # What is shown

    def show_file(self, examination: Examination | None, fallback: QImage | None = None) -> None:
        """Puts a file on the stage; ``fallback`` is its small picture, for when no decoder opens it."""
        self.stop()
        self._examination, self._result, self._fallback = examination, None, fallback
        e = examination
        timed = e is not None and e.kind in (Kind.VIDEO, Kind.AUDIO)
        seconds = float(e.media.get("duration", 0) or 0) if e is not None and timed else 0.0
        pages = int(e.media.get("pages", 0) or 0) if e is not None else 0
        self.play.setVisible(timed)
        self.timeline.setVisible(timed)
        self.timeline.set_track(seconds, e.regions if e is not None and timed else ())
        self.page.blockSignals(True)
        self.page.setValue(1)
        self.page.blockSignals(False)
        self._set_pages(pages)
        self.before.picture.view(1.0, QPointF(0.5, 0.5))
        self.after.picture.view(1.0, QPointF(0.5, 0.5))
        self.before.picture.set_regions(e.regions if e is not None and e.kind is Kind.PHOTO else (), False)
        self.before.show_preview(None, _WAIT if e is not None else "")
        self.show_result(None, "Repaired", "" if e is None else "No repair has been done yet.")
        if e is not None:
            self._ask()

    def _set_pages(self, pages: int) -> None:
        for widget in (self.page, self.page_words):
            widget.setVisible(pages > 1)
        self.page.blockSignals(True)
        self.page.setMaximum(max(1, pages))
        self.page.blockSignals(False)
        self.page_words.setText(f"Page of {pages}:")

    def show_result(self, path: str | None, caption: str, waiting: str = "") -> None:
        """Puts a repaired version beside the file, or only words where there is none."""
        self._result = path
        self.after.caption.setText(caption)
        self.after.show_preview(None, _WAIT if path else waiting)
        self.before.picture.set_second(None)
        self.compare.setEnabled(path is not None)
        self._lay_out()
        if path is not None:
            self._ask_for("after", path)

    def _position(self) -> float:
        pages = self.page.maximum()
        if pages > 1:
            return (self.page.value() - 0.5) / pages
        return self.timeline.at / self.timeline.length if self.timeline.length else 0.0

    def _ask(self) -> None:
        if self._examination is not None:
            self._ask_for("before", self._examination.path)
        if self._result is not None:
            self._ask_for("after", self._result)

    def _ask_for(self, key: str, path: str) -> None:
        e = self._examination
        if e is not None:
            self._previewer.ask((key,), path, e.format, e.kind.value, self._position())

    def point_at(self, share: float) -> None:
        """Points at a part of the content: a row of the picture, a moment of the time."""
        e = self._examination
        if e is None:
            return
        if e.kind is Kind.PHOTO:
            self.before.picture.point_at(share)
        elif not self.players["before"].active:
            self.timeline.show_at(share * self.timeline.length)

    def _previewed(self, key: object, preview: object) -> None:
        side = self.before if key == ("before",) else self.after if key == ("after",) else None
        if side is None or not isinstance(preview, Preview):
            return
        if preview.pages > self.page.maximum():
            self._set_pages(preview.pages)
        if preview.seconds and not self.timeline.length:
            self.timeline.set_track(preview.seconds, ())
        if side is self.before and not preview.width and self._fallback is not None:
            side.stack.setCurrentIndex(0)
            side.picture.show_image(self._fallback)
            side.caption.setText("As found, small: no general decoder opens it")
            return
        if side is self.before:
            side.caption.setText("As found")
        side.show_preview(preview)
        self._lay_out()

    # Comparing

    def _set_wiping(self, on: bool) -> None:
        self._wiping = on
        self.compare.setChecked(on)
        self._lay_out()

    def toggle_wipe(self) -> None:
        """Two versions side by side, or one wiped against the other."""
        if self.compare.isEnabled():
            self._set_wiping(not self._wiping)
        else:
            self.said.emit("There is no second version yet; do a repair first.")

    def _lay_out(self) -> None:
        image = self.after.picture.image
        wiped = (
            self._wiping and self._result is not None and image is not None and self.before.picture.image is not None
        )
        self.before.picture.set_second(image if wiped else None)
        # Without a second version the first has all the room.
        self.after.setVisible(self._result is not None and not wiped)
        self.compare.setVisible(self._result is not None)

    # Playing

    def play_or_pause(self) -> None:
        """Plays both versions from where the time line stands, or lets them stand still."""
        e = self._examination
        if e is None or e.kind not in (Kind.VIDEO, Kind.AUDIO):
            self.said.emit("This file has no time to play.")
            return
        first = self.players["before"]
        if first.active:
            for player in self.players.values():
                player.pause()
            self.play.setText("Pause" if first.playing else "Play")
            return
        at = self.timeline.at if self.timeline.at < self.timeline.length - 0.2 else 0.0
        self._set_wiping(False)
        self._start(at)

    def _start(self, at: float) -> None:
        assert self._examination is not None
        self.players["before"].play(self._examination.path, at)
        if self._result is not None:
            self.players["after"].play(self._result, at)
        self.play.setText("Pause")

    def _seek(self, seconds: float) -> None:
        if self.players["before"].active:
            self._start(seconds)
        else:
            self._ask()

    def _played(self, words: str) -> None:
        self.play.setText("Play")
        if words:
            self.said.emit(words)

    def stop(self) -> None:
        """Ends all playing."""
        for player in self.players.values():
            player.stop()
        self.play.setText("Play")

    def toggle_damage(self) -> None:
        self.before.picture.toggle_damage()

    def turn_page(self, by: int) -> None:
        self.page.setValue(self.page.value() + by)

    def hideEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        self.stop()
        super().hideEvent(event)
