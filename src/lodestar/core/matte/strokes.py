"""A subject that is brushed: strokes that say what is inside and outside, and what was found of it frame by frame."""

import cv2
import msgspec
import numpy as np

from .matte import Matte

INSIDE, OUTSIDE, HAIR = 1, 2, 3
PAST_PX = 4  # that a stored part reaches past what is above 0
DIGITS = 255  # steps of a stored alpha


class Stroke(msgspec.Struct, frozen=True):
    """A stroke of the brush on one frame: line of x, y pairs in plate px, radius in px; what it covers is of the subject, or is not. hair: it
    covers some of both, as hair or leaves, and says nothing else."""

    frame: int
    line: tuple[float, ...]
    radius: float = 8.0
    inside: bool = True
    hair: bool = False

    @property
    def means(self) -> int:
        """INSIDE, OUTSIDE or HAIR."""
        return HAIR if self.hair else INSIDE if self.inside else OUTSIDE


class Found(msgspec.Struct, frozen=True, eq=False):
    """The matte of one frame: alpha (h, w) uint8 of the part that begins at left, top; the rest is 0. sure: expected overlap with the true
    matte, 0..1. selected: whether strokes lie on this frame."""

    frame: int
    left: int
    top: int
    alpha: np.ndarray
    sure: float = 1.0
    selected: bool = False


UNSURE = 0.85  # an expected overlap under which a frame is to be looked at


class Brushed(Matte, frozen=True, kw_only=True, tag="brushed"):
    """A subject that was painted on some frames and is followed through the others. found: by frame; source: digest of what it was found
    from. kept: it is never found anew, whatever changes."""

    strokes: tuple[Stroke, ...] = ()
    found: tuple[Found, ...] = ()
    source: str = ""
    kept: bool = False

    @property
    def selected_frames(self) -> list[int]:
        return sorted({s.frame for s in self.strokes})

    def at(self, frame: int) -> Found | None:
        return next((f for f in self.found if f.frame == frame), None)


def with_found(source: Brushed, found: Found) -> Brushed:
    """With another matte of one frame."""
    rest = [f for f in source.found if f.frame != found.frame]
    return msgspec.structs.replace(source, found=tuple(sorted((*rest, found), key=lambda f: f.frame)))


def painted(source: Brushed | None, id_: str, number: int, strokes: tuple[Stroke, ...]) -> Brushed:
    """A brushed matte with more strokes, or a new one."""
    source = source or Brushed(id=id_, name=f"Subject {number}")
    return msgspec.structs.replace(source, strokes=(*source.strokes, *strokes))


def drawn(strokes: tuple[Stroke, ...], frame: int, width: int, height: int, meaning: tuple[int, ...] = (INSIDE, OUTSIDE)) -> np.ndarray:
    """(height, width) uint8 of 0 and what they mean: the strokes on a frame that mean one of these, later ones over earlier ones."""
    picture = np.zeros((height, width), np.uint8)
    for stroke in strokes:
        if stroke.frame == frame and stroke.means in meaning:
            line = np.round(np.array(stroke.line).reshape(-1, 1, 2)).astype(np.int32)
            thick, value = max(int(round(2 * stroke.radius)), 1), stroke.means
            cv2.polylines(picture, [line], False, value, thick)
            for x, y in (line[0, 0], line[-1, 0]):  # round ends, and a single dab
                cv2.circle(picture, (int(x), int(y)), max(int(round(stroke.radius)), 1), value, -1)
    return picture


def stored(frame: int, alpha: np.ndarray, sure: float, selected: bool) -> Found:
    """What is kept of a matte (h, w) float32 of the whole picture: the part that is not empty, in DIGITS steps."""
    digits = np.round(np.clip(alpha, 0, 1) * DIGITS).astype(np.uint8)
    rows, columns = np.flatnonzero(digits.any(1)), np.flatnonzero(digits.any(0))
    if not len(rows):
        part, left, top = np.zeros((0, 0), np.uint8), 0, 0
    else:
        top, left = max(int(rows[0]) - PAST_PX, 0), max(int(columns[0]) - PAST_PX, 0)
        part = digits[top : rows[-1] + PAST_PX + 1, left : columns[-1] + PAST_PX + 1].copy()
    part.flags.writeable = False
    return Found(frame, left, top, part, round(float(sure), 4), selected)


def laid_out(found: Found | None, width: int, height: int) -> np.ndarray:
    """(height, width) float32 in 0..1: a stored matte in the whole picture; what would lie outside it is left out."""
    whole = np.zeros((height, width), np.float32)
    if found is None or not found.alpha.size:
        return whole
    part = found.alpha[: max(height - found.top, 0), : max(width - found.left, 0)].astype(np.float32) / DIGITS
    whole[found.top : found.top + part.shape[0], found.left : found.left + part.shape[1]] = part
    return whole
