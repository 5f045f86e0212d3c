"""The tracks of a shot as one frozen value."""

import msgspec
import numpy as np


class Tracks(msgspec.Struct, frozen=True, eq=False):
    """Observations sorted by track, then by frame; read-only arrays.

    frame (n,) int32: the clip's frame. track (n,) int32: 0 .. count-1. xy (n, 2) float64: pixels as filmed.
    rejected (count,) bool: greyed by the user or by a rule; kept, and can come back.
    source: digest of what they were followed in, by which they are known to be stale.
    keys (c, 4) float64: places that were set by hand: track, frame, x, y; a track that has one was placed by hand.
    """

    frame: np.ndarray
    track: np.ndarray
    xy: np.ndarray
    rejected: np.ndarray
    source: str = ""
    keys: np.ndarray = msgspec.field(default_factory=lambda: np.zeros((0, 4)))

    @property
    def count(self) -> int:
        return len(self.rejected)

    @property
    def starts(self) -> np.ndarray:
        """(count + 1,) where each track's observations begin."""
        return np.searchsorted(self.track, np.arange(self.count + 1))

    def at(self, frame: int) -> np.ndarray:
        """Row numbers of the observations of one frame."""
        return np.flatnonzero(self.frame == frame)

    def kept(self) -> np.ndarray:
        """(n,) bool: observations of tracks that are not rejected."""
        return ~self.rejected[self.track]

    def with_rejected(self, rejected: np.ndarray) -> "Tracks":
        return msgspec.structs.replace(self, rejected=frozen(np.asarray(rejected, bool)))


def frozen(array: np.ndarray) -> np.ndarray:
    """The array, contiguous and read-only."""
    array = np.ascontiguousarray(array)
    array.flags.writeable = False
    return array


def spans(tracks: Tracks) -> tuple[np.ndarray, np.ndarray]:
    """(count,) first and last frame of each track; for an empty one the last is -1."""
    starts = tracks.starts
    some = starts[1:] > starts[:-1]
    first, last = np.zeros(tracks.count, int), np.full(tracks.count, -1)
    first[some], last[some] = tracks.frame[starts[:-1][some]], tracks.frame[starts[1:][some] - 1]
    return first, last


def make_tracks(frame: np.ndarray, track: np.ndarray, xy: np.ndarray) -> Tracks:
    """Sort observations, number the tracks from 0 without gaps, and freeze them."""
    order = np.lexsort((frame, track))
    _, number = np.unique(track[order], return_inverse=True)
    count = int(number.max()) + 1 if len(number) else 0
    return Tracks(
        frozen(frame[order].astype(np.int32)),
        frozen(number.astype(np.int32)),
        frozen(xy[order].astype(np.float64).reshape(-1, 2)),
        frozen(np.zeros(count, bool)),
    )
