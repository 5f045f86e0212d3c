"""What all parts of the time share: its measures, and frames to px and back."""

import numpy as np

from ..session import Session

GUTTER, RULER, LANE = 120, 22, 18
REACH_PX = 5


class TimeAxis:
    """Frames to px and back. width: of the whole time, px; what is left of GUTTER names the rows."""

    def __init__(self, session: Session, width: int) -> None:
        plate = session.shot.plate
        self.count = plate.count if plate else 100
        self.fps = plate.fps if plate else 25.0
        self.left, self.width = GUTTER, max(width - GUTTER - 12, 10)

    def x(self, frame: float) -> float:
        return self.left + (frame + 0.5) / self.count * self.width

    def at(self, x: float) -> float:
        """The time at x, in frames and parts of them."""
        return float((x - self.left) / self.width * self.count - 0.5)

    def frame(self, x: float) -> int:
        return int(np.clip((x - self.left) / self.width * self.count, 0, self.count - 1))

    @property
    def half(self) -> float:
        """Half of a frame, in px."""
        return self.width / self.count / 2
