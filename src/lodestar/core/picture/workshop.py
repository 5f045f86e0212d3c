"""What is kept from frame to frame: decoded plates, for all threads together, and for each thread its open clip and its renderer."""

import contextlib
import ctypes
import threading
from collections import OrderedDict
from collections.abc import Iterator
from typing import Any

import cv2
import numpy as np

from ..basics.errors import PlateError
from ..media.plates import Plate, PlateInfo, open_plate
from ..render.engine import Engine

KEPT_BYTES = 300_000_000  # of decoded plates: 100 frames of 720p, 12 of 4K

KEPT_SMALL_BYTES = 80_000_000  # of small pictures of it: 115 frames
SMALL_PX = 640  # their width
STEP = 10  # frames by which playing goes on at most, where it leaves some out


class _Frames:
    """Decoded frames by clip and number; those that were used last are kept, up to a number of bytes."""

    def __init__(self, most_bytes: int) -> None:
        self._lock = threading.Lock()
        self._kept: OrderedDict[tuple[PlateInfo, int], np.ndarray] = OrderedDict()
        self._bytes, self._most = 0, most_bytes

    def get(self, key: tuple[PlateInfo, int]) -> np.ndarray | None:
        with self._lock:
            found = self._kept.get(key)
            if found is not None:
                self._kept.move_to_end(key)
            return found

    def keep(self, key: tuple[PlateInfo, int], picture: np.ndarray) -> None:
        with self._lock:
            if key in self._kept:
                return
            self._kept[key] = picture
            self._bytes += picture.nbytes
            while self._bytes > self._most and len(self._kept) > 1:
                self._bytes -= self._kept.popitem(last=False)[1].nbytes

    def set_most(self, most_bytes: int) -> None:
        """Another number of bytes; what is too much by it goes."""
        with self._lock:
            self._most = most_bytes
            while self._bytes > self._most and len(self._kept) > 1:
                self._bytes -= self._kept.popitem(last=False)[1].nbytes

    def clear(self) -> None:
        with self._lock:
            self._kept.clear()
            self._bytes = 0


frames = _Frames(KEPT_BYTES)
small_frames = _Frames(KEPT_SMALL_BYTES)


class Workshop:
    """An open clip, a renderer, and what was made last. It belongs to one thread; whoever opens it closes it."""

    def __init__(self) -> None:
        self.engine = Engine()
        self._plate: Plate | None = None
        self._ahead: Plate | None = None
        self._info: PlateInfo | None = None
        self._held: tuple[PlateInfo, int] | None = None  # the frame that was held against others last
        self._last: dict[str, tuple[tuple, Any]] = {}

    def plate(self, info: PlateInfo) -> Plate:
        """The clip, opened where it is another than the last one. Raises PlateError."""
        if self._plate is None or self._info != info:
            self._close_plate()
            self._plate, self._info = open_plate(info), info
        return self._plate

    def frame(self, info: PlateInfo, index: int) -> np.ndarray:
        """(h, w, 3) code values of a frame of the clip. Raises PlateError."""
        found = frames.get((info, index))
        if found is None:
            found = self.plate(info).frame(index)
            found.flags.writeable = False
            frames.keep((info, index), found)
        return found

    def small(self, info: PlateInfo, index: int) -> np.ndarray:
        """(h, w, 3) code values of a frame, SMALL_PX wide or less. It is read by a clip of its own, since who holds frames against others goes through the clip
        twice at a time: one decoder would begin anew for each. Raises PlateError."""
        found = small_frames.get((info, index))
        if found is None:
            whole = frames.get((info, index))
            if whole is None:
                self.plate(info)  # what was opened of another clip goes
                self._ahead = self._ahead or open_plate(info)
                whole = self._ahead.frame(index)
            width = min(SMALL_PX, info.width)
            found = cv2.resize(whole, (width, max(round(info.height * width / info.width), 1)), interpolation=cv2.INTER_AREA)
            small_frames.keep((info, index), found)
        return found

    def smalls(self, info: PlateInfo, before: int, middle: int, after: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """`small` of three frames. Where the frame in the middle follows the one of the last time soon, as in playing, all from the first to the last are read
        in one go, and going back some before them: they are asked for next, and to go back for each is to decode from a key frame again. Raises PlateError."""
        step = middle - self._held[1] if self._held is not None and self._held[0] == info else 0
        if 0 < abs(step) <= STEP and small_frames.get((info, after if step > 0 else before)) is None:
            for index in range(before if step > 0 else max(before - STEP, 0), after):
                with contextlib.suppress(PlateError):  # of one that is not asked for now
                    self.small(info, index)
        self._held = info, middle
        first, now, last = (self.small(info, index) for index in (before, middle, after))
        return first, now, last

    def last(self, what: str, key: tuple, make) -> Any:
        """What was made last of its kind, if from the same parts; made anew otherwise. A drag asks for the same again and again."""
        kept = self._last.get(what)
        if kept is None or len(kept[0]) != len(key) or any(a is not b and a != b for a, b in zip(kept[0], key)):
            kept = self._last[what] = (key, make())
        return kept[1]

    def _close_plate(self) -> None:
        for plate in (self._plate, self._ahead):
            if plate is not None:
                plate.close()
        self._plate = self._ahead = self._info = None

    def close(self) -> None:
        self._close_plate()
        self._last.clear()


class _Here(threading.local):
    workshop: Workshop | None = None


_here = _Here()


def workshop() -> Workshop:
    """The workshop of this thread."""
    if _here.workshop is None:
        _here.workshop = Workshop()
    return _here.workshop


def close_workshop() -> None:
    """Let go of this thread's clip and renderer."""
    if _here.workshop is not None:
        _here.workshop.close()
        _here.workshop = None


@contextlib.contextmanager
def own_workshop() -> Iterator[Workshop]:
    """A workshop for one job, closed at its end, on whatever thread the job runs."""
    before, _here.workshop = _here.workshop, Workshop()
    try:
        yield _here.workshop
    finally:
        close_workshop()
        _here.workshop = before
        _give_back()


def _give_back() -> None:
    """Give memory that was freed back to the system. Each thread frees into a store of its own, which the C library keeps: over ten
    deliveries on ten threads that is 250 MB (measured at 1080p)."""
    with contextlib.suppress(OSError, AttributeError):  # another C library than glibc has no such call
        ctypes.CDLL("libc.so.6").malloc_trim(0)
