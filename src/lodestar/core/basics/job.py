"""How long work reports and is stopped. The core calls `step`; whoever runs it reads `share` and sets `cancelled`."""

import threading
import time

from .errors import Cancelled


class Job:
    """Progress and cancel of one piece of work; safe to read from another thread."""

    def __init__(self) -> None:
        self.share = 0.0
        self.text = ""
        self.started = time.monotonic()
        self._stop = threading.Event()
        self._stage = (0.0, 1.0)
        self._range = (0.0, 1.0)

    def step(self, share: float, text: str = "") -> None:
        """Report that `share` (0..1) of the present part is done; raises Cancelled when the user stopped it."""
        self.check()
        low, high = self._range
        # what has to be done once more does not run the progress back
        self.share = max(self.share, low + (high - low) * min(max(share, 0.0), 1.0))
        if text:
            self.text = text

    def check(self) -> None:
        """Raises Cancelled when the user stopped it."""
        if self._stop.is_set():
            raise Cancelled

    def part(self, low: float, high: float) -> None:
        """What `step` reports from now on counts from `low` to `high` of the stage."""
        a, b = self._stage
        self._range = (a + (b - a) * low, a + (b - a) * high)

    def stage(self, low: float, high: float) -> None:
        """What follows, with all its parts, counts from `low` to `high` of the whole: for work made of several functions."""
        self._stage = self._range = (low, high)

    def begin(self) -> None:
        """Another piece of work begins: its progress counts from nothing."""
        self.share, self.text, self.started = 0.0, "", time.monotonic()
        self.stage(0.0, 1.0)

    def cancel(self) -> None:
        self._stop.set()

    @property
    def cancelled(self) -> bool:
        return self._stop.is_set()

    @property
    def time_left_s(self) -> float | None:
        """Seconds to go at the pace so far; None until there is a pace."""
        gone = time.monotonic() - self.started
        return None if self.share < 0.02 else gone * (1 - self.share) / self.share
