"""How fast a run gets on: bytes a second, smoothed over the last half minute, standing still while it is paused."""

from __future__ import annotations

from collections import deque

_WINDOW_S = 30.0
_LEAST_S = 0.5


class Rate:
    """Give it the bytes done as they grow; it answers with the rate."""

    def __init__(self) -> None:
        self._seen: deque[tuple[float, int]] = deque()
        self._lost = 0.0
        self._last: float | None = None

    def after(self, done: int, now: float, paused: bool = False) -> float:
        """Bytes a second now that ``done`` bytes are through at ``now`` seconds; 0 while nothing can be said yet.

        Time that passes while the run is paused is left out.
        """
        if paused and self._last is not None:
            self._lost += now - self._last
        self._last = now
        working = now - self._lost
        self._seen.append((working, done))
        while len(self._seen) > 2 and working - self._seen[0][0] > _WINDOW_S:
            self._seen.popleft()
        first, begun = self._seen[0]
        return (done - begun) / (working - first) if working - first >= _LEAST_S else 0.0
