"""What all parts of the time share: its measures, and frames to px and back."""

import numpy as np
from PyQt6.QtCore import QRectF
from PyQt6.QtGui import QPainter

from ..session import Session

GUTTER, RULER, LANE = 120, 22, 18
REACH_PX = 8  # a key is 4 px wide to the eye and 16 to the hand
LEAST_SHOWN = 8.0  # frames; a frame is then as wide as a hand can want


class TimeAxis:
    """Frames to px and back. width: of the whole time, px; what is left of GUTTER names the rows. begin, end: the part of the clip
    on show, from the left edge of a frame to the right edge of another."""

    def __init__(self, session: Session, width: int) -> None:
        plate = session.shot.plate
        self.count = plate.count if plate else 100
        self.fps = plate.fps if plate else 25.0
        shown = session.time_shown
        self.begin, self.end = shown if shown is not None and shown[1] <= self.count else (0.0, float(self.count))
        self.left, self.width = GUTTER, max(width - GUTTER - 12, 10)

    def x(self, frame: float) -> float:
        return self.left + (frame + 0.5 - self.begin) * self.room

    def at(self, x: float) -> float:
        """The time at x, in frames and parts of them."""
        return float(self.begin + (x - self.left) / self.room - 0.5)

    def frame(self, x: float) -> int:
        """The frame at x, of those on show."""
        return int(np.clip(self.begin + (x - self.left) / self.room, max(self.begin, 0), min(self.end, self.count) - 1e-6))

    @property
    def room(self) -> float:
        """Of a frame, in px."""
        return self.width / (self.end - self.begin)

    @property
    def half(self) -> float:
        """Half of a frame, in px."""
        return self.room / 2

    def clip(self, p: QPainter, height: float) -> None:
        """Keep what is drawn from here on out of the names at the left."""
        p.setClipRect(QRectF(self.left - 1, 0, self.width + 13, height))

    def zoomed(self, x: float, factor: float) -> tuple[float, float] | None:
        """What is on show once the time is that many times as wide, with what is at x staying there; None where that is all of it."""
        length = (self.end - self.begin) / factor
        if length >= self.count:
            return None
        length = max(length, min(LEAST_SHOWN, self.count))
        share = float(np.clip((x - self.left) / self.width, 0, 1))
        return self._inside(self.begin + share * (self.end - self.begin - length), length)

    def panned(self, frames: float) -> tuple[float, float] | None:
        """What is on show so many frames later; None while all of it is."""
        whole = self.end - self.begin >= self.count
        return None if whole else self._inside(self.begin + frames, self.end - self.begin)

    def _inside(self, begin: float, length: float) -> tuple[float, float]:
        begin = float(np.clip(begin, 0, self.count - length))
        return begin, begin + length
