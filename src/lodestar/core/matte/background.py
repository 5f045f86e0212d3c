"""What stands behind a subject: each frame's background, predicted from other frames through the camera that was solved.

Where a picture differs from it, there is something that moved: the subject, or its shadow.
Sources: J. Sun, W. Zhang, X. Tang, H.-Y. Shum, Background Cut, ECCV 2006; Y.-Y. Chuang et al., Video Matting of Complex Scenes,
SIGGRAPH 2002 (a clean plate from other frames).
"""

from collections.abc import Callable
from typing import NamedTuple

import cv2
import numpy as np

from ..basics.geometry import summed
from ..basics.jit import kernel

# frames: near ones show the same ground behind the subject still, far ones show it from elsewhere
APART = (14, 22, 32, 44, 58, 74)
MOST_SOURCES = 8
# what fewer than two of those show was uncovered just now, or is about to be covered: nearer frames tell it, where they agree to so many code values
NEARER, AGREE = (4, 8, 14), 12.0
MANY = 4  # frames that show the same: so long a subject that goes is nowhere
EVERY = 6  # only frames of these numbers are looked into, so that a few decoded ones serve a whole run of frames
SHADE = 1.2  # log-odds that a pixel which could be the background in shadow gains for being the subject
SHADED_LEAST, SHADED_MOST, SHADED_PX = 0.3, 0.92, 40  # what a shadow leaves of the ground; pixels that tell how much
MAPS_KEPT = 3  # frames
MAY_BE_OFF = 5.0  # code values of a pixel, beside what its neighbours and other frames tell, at most
# in its place so many times what pixels round about are off by, over so many px, but never less than so many code values
NOISES, ROUND_PX, LEAST_OFF = 1.7, 121, 1.5
# a predicted place may be off by one px; where a subject is followed and so many frames agree, by less. They disagree by TORN code values, over so many
# px round it, where depths between points are wrong: a whole px again
KNOWN_PX, TORN, TORN_PX = 0.3, 10.0, 9
STEEP = 0.15  # code values of doubt for each of those by which the px next to it differ, if it is off by one px; half of it at least
NODE_PX = 16  # between the nodes of a map from frame to frame, in plate px
ROW = 1024  # a list of places is resampled in rows of so many: OpenCV takes no side over 32,767

Reader = Callable[[int], np.ndarray]  # (h, w, 3) uint8 by frame
# (frame, source) -> (rows, columns, 2) float32: where in `source` the still scene lies that is seen at the nodes of `frame`, px;
# None where nobody knows how the camera moved
Warp = Callable[[int, int], np.ndarray | None]
Like = Callable[[np.ndarray], np.ndarray]  # colours (n, 3) uint8 -> (n,) bool: which may be those of a subject


class Predicted(NamedTuple):
    """Of n places: colour (n, 3) float32, spread (n,) between the frames that it is from, and support (n,): how many those are."""

    colour: np.ndarray
    spread: np.ndarray
    support: np.ndarray


class Background:
    """The predicted background of the frames in a range. hidden: by frame, (h, w) uint8, above 0 where the subject is known to be, which
    is then left out. like: what may be the subject, which is left out of frames where it is not known yet: a large one that goes slowly would be taken for its
    own background. surely_like: of fewer colours; asked where too little is left and many frames agree."""

    def __init__(self, reader: Reader, warp: Warp, frames: range, shape: tuple[int, int]) -> None:
        self.reader, self.frames, self.shape = reader, frames, shape
        self.hidden: dict[int, np.ndarray] = {}
        self.like: Like | None = None
        self.surely_like: Like | None = None
        self._warp, self._maps = warp, {}  # type: ignore[var-annotated]

    def map(self, frame: int, source: int) -> np.ndarray | None:
        """`Warp`, kept."""
        if (frame, source) not in self._maps:
            self._maps[frame, source] = self._warp(frame, source)
        return self._maps[frame, source]

    def forget_maps(self) -> None:
        self._maps = {}

    @staticmethod
    def may_show(frame: int) -> bool:
        """Whether the backgrounds of other frames are predicted from this one."""
        return frame % EVERY == 0

    def hide(self, frame: int, alpha: np.ndarray) -> None:
        """What is covered in a frame, (h, w) in 0..1, is left out of the backgrounds of other frames."""
        if self.may_show(frame):
            self.hidden[frame] = (cv2.dilate(alpha, np.ones((5, 5), np.uint8)) * 255 > 5).astype(np.uint8)

    def forget_far(self, frame: int, painted: int) -> None:
        """Let go of what is needed neither for the frames next to one of these nor, of what is hidden, for those round the other."""
        self._maps = {key: m for key, m in self._maps.items() if abs(key[0] - frame) <= MAPS_KEPT}
        far = APART[-1] + EVERY
        self.hidden = {f: h for f, h in self.hidden.items() if min(abs(f - frame), abs(f - painted)) <= far}

    def sources_of(self, frame: int) -> set[int]:
        """The frames that a frame's background may be predicted from."""
        return {*self._so_far(frame, APART), *self._so_far(frame, NEARER)}

    def _so_far(self, frame: int, apart: tuple[int, ...]) -> list[int]:
        near = (EVERY * round((frame + d) / EVERY) for away in apart for d in (-away, away))
        # in the order in which a clip is read: to go back in it is to decode from a key frame again
        return sorted(list(dict.fromkeys(k for k in near if k in self.frames and k != frame))[:MOST_SOURCES])

    def at(self, frame: int, xy: np.ndarray) -> Predicted:
        """The background at places (n, 2) px of a frame."""
        return self.cleared(frame, xy, self.plain_at(frame, xy))

    def plain_at(self, frame: int, xy: np.ndarray) -> Predicted:
        """The same by what may be the subject alone."""
        return self._with(frame, xy, self._predicted(frame, xy, APART, self.like), NEARER, self.like, 2)

    def cleared(self, frame: int, xy: np.ndarray, found: Predicted) -> Predicted:
        """With what a closer look says of places where too little was found."""
        return found if self.surely_like is None else self._with(frame, xy, found, APART, self.surely_like, MANY)

    def _with(self, frame: int, xy: np.ndarray, found: Predicted, apart: tuple[int, ...], like: Like | None, least: int) -> Predicted:
        """With what other frames show at places of which fewer than two show something, if `least` of them do and agree."""
        few = found.support < 2
        if few.any():
            again, found = self._predicted(frame, xy[few], apart, like), Predicted(*(values.copy() for values in found))
            few[few] = told = (again.support >= least) & (again.spread < AGREE)
            for values, other in zip(found, again, strict=True):
                values[few] = other[told]
        return found

    def _predicted(self, frame: int, xy: np.ndarray, apart: tuple[int, ...], like: Like | None) -> Predicted:
        values, valid = [], []
        for source in self._so_far(frame, apart):
            nodes = self.map(frame, source)
            if nodes is None:
                continue
            where = resampled(nodes, xy / NODE_PX)
            high, wide = self.shape
            x, y = where.T
            ok = (x > 1) & (y > 1) & (x < wide - 2) & (y < high - 2)
            if (hidden := self.hidden.get(source)) is not None:
                ok &= resampled(hidden, where) == 0
            values.append(resampled(self.reader(source), where))
            if hidden is None and like is not None:
                ok &= ~like(values[-1])
            valid.append(ok)
        if not values:
            n = len(xy)
            return Predicted(np.zeros((n, 3), np.float32), np.zeros(n, np.float32), np.zeros(n, np.float32))
        return Predicted(*_middle(np.stack(values).astype(np.float32), np.stack(valid)))


def resampled(picture: np.ndarray, xy: np.ndarray) -> np.ndarray:
    """A picture's values at places (n, 2) px between its pixels; outside it, those of its border."""
    n = len(xy)
    rows = max(-(-n // ROW), 1)
    padded = np.zeros((rows * ROW, 2), np.float32)
    padded[:n] = xy
    found = cv2.remap(picture, padded.reshape(rows, ROW, 2), None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)  # type: ignore[call-overload]
    return found.reshape(rows * ROW, *picture.shape[2:])[:n]


@kernel
def _middle(values: np.ndarray, valid: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Median of the valid values of each place, half of the range of their middle half, and how many there are."""
    n, m = values.shape[:2]
    colour, spread, support = np.zeros((m, 3), np.float32), np.zeros(m, np.float32), np.zeros(m, np.float32)
    sorted_ = np.zeros(n, np.float32)
    for i in range(m):
        count = 0
        for c in range(3):
            count = 0
            for k in range(n):
                if valid[k, i]:
                    x, j = values[k, i, c], count - 1
                    while j >= 0 and sorted_[j] > x:
                        sorted_[j + 1] = sorted_[j]
                        j -= 1
                    sorted_[j + 1] = x
                    count += 1
            if count:
                half = count // 2
                colour[i, c] = sorted_[half] if count % 2 else 0.5 * (sorted_[half] + sorted_[half - 1])
                spread[i] += (sorted_[count - 1 - count // 4] - sorted_[count // 4]) / 3
        support[i] = count
    return colour, spread, support


def differs(
    picture: np.ndarray, background: np.ndarray, spread: np.ndarray, support: np.ndarray, near: np.ndarray | None = None
) -> tuple[np.ndarray, np.ndarray]:
    """Log-odds (h, w), -2.5 to 5, that a pixel is not the predicted background; and that it is neither that nor that in shadow (one grey
    factor of 0.42 to 1).

    picture, background: (h, w, 3); spread, support: (h, w). A pixel may be off by one px and by what the background itself varies. near: (h, w) bool,
    where a subject is expected: there the background is trusted to a part of a px if MANY frames agree on it, which tells a subject from a background of
    its brightness that is not as even as it is.
    """
    seen, lit = picture.astype(np.float32), np.ones((1, 1, 1), np.float32)
    off, scale = _off(seen, background, spread)
    off_lit, scale_lit = off(lit), scale
    if near is not None:
        px = np.where(near & (support >= MANY), np.clip(cv2.blur(spread, (TORN_PX, TORN_PX)) / TORN, KNOWN_PX, 1), 1.0)
        closer, scale_lit = _off(seen, background, spread, px[..., None].astype(np.float32))
        off_lit = closer(lit)
    off_by = cv2.blur(np.minimum(summed(off_lit) / 3, MAY_BE_OFF), (ROUND_PX, ROUND_PX))
    plain = _odds(off_lit, scale_lit + np.clip(NOISES * off_by, LEAST_OFF, MAY_BE_OFF)[..., None])
    # a shadow is told from its ground less exactly
    scale = scale + MAY_BE_OFF
    loose = _odds(off(lit), scale)
    factor = cv2.blur(np.clip(summed(seen * background) / (summed(background * background) + 1), 0.42, 1), (3, 3))
    # a shadow costs a little: what is darker may be the subject as well
    shaded = np.minimum(_odds(off(factor[..., None]), scale * np.maximum(factor[..., None], 0.5)) + SHADE * np.clip((1 - factor) / 0.1, 0, 1), 5)
    shaded = np.where(factor < 0.97, np.minimum(loose, shaded), loose)
    known = support >= 2
    return np.where(known, plain, 0).astype(np.float32), np.where(known, shaded, 0).astype(np.float32)


def shade_of_ground(picture: np.ndarray, background: np.ndarray, where: np.ndarray) -> np.ndarray | None:
    """(3,) what a shadow leaves of the ground's code values, by the pixels `where` (h, w) bool; None where too few of them are darker."""
    ratio = (picture[where].astype(np.float32) + 1) / (background[where] + 1)
    dark = (ratio < SHADED_MOST).all(1) & (ratio > SHADED_LEAST).all(1)
    return np.median(ratio[dark], axis=0) if dark.sum() >= SHADED_PX else None


def differs_in_shade(picture: np.ndarray, background: np.ndarray, spread: np.ndarray, shade: np.ndarray) -> np.ndarray:
    """Log-odds (h, w), -2.5 to 5, that a pixel is not the predicted background anywhere between light and a shadow that leaves `shade` (3,) of it."""
    seen, loss = picture.astype(np.float32), background * (1 - shade)
    deep = np.clip(summed((background - seen) * loss) / (summed(loss * loss) + 1), 0, 1)
    factor = 1 - cv2.blur(deep.astype(np.float32), (3, 3))[..., None] * (1 - shade)
    off, scale = _off(seen, background, spread)
    return _odds(off(factor.astype(np.float32)), (scale + MAY_BE_OFF) * np.maximum(factor, 0.5))


def _off(
    seen: np.ndarray, background: np.ndarray, spread: np.ndarray, px: np.ndarray | float = 1.0
) -> tuple[Callable[[np.ndarray], np.ndarray], np.ndarray]:
    """By how much a picture lies off its background times a factor, (h, w, 3) code values, as far as its place being off by `px` (one at most, (h, w, 1) or
    for all) does not explain it; and how much of that the background's own doubt explains."""
    around = np.ones((3, 3), np.uint8)
    high, low = cv2.dilate(background, around), cv2.erode(background, around)
    doubt = 0.5 * spread[..., None] + STEEP * np.maximum(px, 0.5) * (high - low)
    high, low = background + px * (high - background), background - px * (background - low)
    return lambda factor: np.maximum(0, np.maximum(seen - high * factor, low * factor - seen)), doubt


def _odds(off: np.ndarray, scale: np.ndarray) -> np.ndarray:
    """Log-odds (h, w) that a pixel is something else: of a pixel as of those round it."""
    off = off / scale
    return np.clip(0.5 * summed(cv2.blur(off * off, (3, 3))) - 1.5, -2.5, 5)
