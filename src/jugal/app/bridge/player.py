"""Plays a clip or a sound that a child process decodes. What kills the decoder ends the playing, never the window."""

from __future__ import annotations

import contextlib
import multiprocessing
import threading
import time
from collections import deque
from multiprocessing.connection import Connection
from typing import Any

from PySide6.QtCore import QObject, QTimer, Signal
from PySide6.QtGui import QImage

from jugal.app.bridge.playing import Over, Picture, Sound, play

_AHEAD = 40
_TURN_MS = 12
_RATE = 44100


class Player(QObject):
    """One file at a time. ``pictured`` carries a QImage, ``moved`` seconds, ``ended`` words (empty at the end proper)."""

    pictured = Signal(QImage)
    moved = Signal(float)
    ended = Signal(str)

    def __init__(self, parent: QObject | None = None, sounding: bool = True) -> None:
        super().__init__(parent)
        self._sounding = sounding
        self._process: Any = None
        self._waiting: deque[Picture | Sound | Over] = deque()
        self._room = threading.Condition()
        self._serial = 0
        self._path = ""
        self._begun = 0.0
        self._offset = 0.0
        self._paused_at: float | None = None
        self._sink: Any = None
        self._device: Any = None
        self._pcm = bytearray()
        self._turn = QTimer(self)
        self._turn.setInterval(_TURN_MS)
        self._turn.timeout.connect(self._on_turn)

    # Controls

    def play(self, path: str, start: float = 0.0) -> None:
        """Plays ``path`` from ``start`` seconds on."""
        self.stop()
        self._path, self._offset, self._paused_at = path, start, None
        context = multiprocessing.get_context("forkserver")
        mine, theirs = context.Pipe(duplex=False)
        self._process = context.Process(target=play, args=(theirs, path, start), daemon=True)
        self._process.start()
        theirs.close()
        self._serial += 1
        threading.Thread(target=self._listen, args=(mine, self._serial), daemon=True).start()
        # The clock starts with the first thing that comes; until then it stands.
        self._begun = 0.0
        self._open_sound()
        self._turn.start()

    def pause(self) -> None:
        """Stands still, or goes on."""
        if self._process is None:
            return
        if self._paused_at is None:
            self._paused_at = self.seconds
            self._turn.stop()
        else:
            self._begun, self._offset, self._paused_at = time.monotonic(), self._paused_at, None
            self._turn.start()

    def stop(self) -> None:
        """Ends playing; what still waits is dropped."""
        self._turn.stop()
        with self._room:
            self._serial += 1
            self._waiting.clear()
            self._room.notify_all()
        if self._process is not None:
            self._process.kill()
            self._process.join(5)
            self._process = None
        if self._sink is not None:
            self._sink.stop()
            self._sink = self._device = None
        self._pcm.clear()

    @property
    def playing(self) -> bool:
        """Something plays and does not stand still."""
        return self._process is not None and self._paused_at is None

    @property
    def active(self) -> bool:
        """Something plays or stands still in the middle."""
        return self._process is not None

    @property
    def seconds(self) -> float:
        """Where in the file it plays."""
        if self._paused_at is not None:
            return self._paused_at
        return self._offset + (time.monotonic() - self._begun if self._begun else 0.0)

    # Sound

    def _open_sound(self) -> None:
        if not self._sounding:
            return
        from PySide6.QtMultimedia import QAudioFormat, QAudioSink, QMediaDevices

        device = QMediaDevices.defaultAudioOutput()
        if device.isNull():
            return
        wanted = QAudioFormat()
        wanted.setSampleRate(_RATE)
        wanted.setChannelCount(2)
        wanted.setSampleFormat(QAudioFormat.SampleFormat.Int16)
        self._sink = QAudioSink(device, wanted, self)
        self._device = self._sink.start()

    # What comes from the child

    def _listen(self, connection: Connection, serial: int) -> None:
        """Runs in a thread: takes what the child sends, as far ahead as there is room."""
        last: Picture | Sound | Over = Over("The decoder died of this file.")
        with connection, contextlib.suppress(EOFError, OSError):
            while True:
                item = connection.recv()
                with self._room:
                    self._room.wait_for(lambda: len(self._waiting) < _AHEAD or serial != self._serial)
                    if serial != self._serial:
                        return
                    self._waiting.append(item)
                if isinstance(item, Over):
                    return
        with self._room:
            if serial == self._serial:
                self._waiting.append(last)

    def _on_turn(self) -> None:
        picture: Picture | None = None
        over: Over | None = None
        with self._room:
            if self._waiting and not self._begun:
                first = self._waiting[0]
                self._begun = time.monotonic()
                self._offset = self._offset if isinstance(first, Over) else first.seconds
            now = self.seconds
            while self._waiting:
                item = self._waiting[0]
                if isinstance(item, Over):
                    if len(self._waiting) == 1:
                        over = item
                    break
                if item.seconds > now + (0.3 if isinstance(item, Sound) else 0.0):
                    break
                self._waiting.popleft()
                if isinstance(item, Picture):
                    picture = item
                else:
                    self._pcm += item.pcm
            self._room.notify_all()
        self._pour()
        if picture is not None:
            self.pictured.emit(
                QImage(
                    picture.rgb, picture.width, picture.height, picture.width * 3, QImage.Format.Format_RGB888
                ).copy()
            )
        if self._begun:
            self.moved.emit(now)
        if over is not None:
            self.stop()
            self.ended.emit(over.words)

    def _pour(self) -> None:
        """Gives the sound device what it has room for; without a device the sound is dropped."""
        if self._device is None:
            self._pcm.clear()
            return
        room = min(len(self._pcm), self._sink.bytesFree())
        if room > 0:
            self._device.write(bytes(self._pcm[:room]))
            del self._pcm[:room]
