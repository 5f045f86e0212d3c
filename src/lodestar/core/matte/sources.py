"""What mattes are made from, each with the function that says how much of each pixel it covers. A new source is one struct and
one line in `coverage_of`."""

from collections.abc import Callable
from typing import Annotated, Literal, NamedTuple, get_args

import cv2
import numpy as np

from ..basics.keyed import Keyed, constant
from ..basics.rows import MediaPath, Row
from .far import Around, clouds_among, far_away
from .key import Keyer, differing_cover, keyed_cover
from .matte import Matte, edged
from .outline import Form, coverage, smooth_line
from .strokes import Brushed, laid_out

BRIGHTNESS = np.array([0.2126, 0.7152, 0.0722], np.float32)  # of code values, as mattes are painted (ITU-R BT.709-6, item 3.2)


class Outline(Matte, frozen=True, kw_only=True, tag="outline"):
    """A line over the picture. shape: x, y pairs in plate pixels: its corners, then the handles, in and out, of each of `handled`, by whose curve the
    line goes there. closed: it covers what it surrounds, else itself, as wide as `width`.
    sharp: numbers of its corners that are not smooth. feather, inward: px over which its edge fades; feathers: shares of both at each corner, 1
    beyond its end. carried: tracks on whose plane in the scene it lies, so that the solved camera carries it from each key on; none
    for one that is keyed alone. steady: between its keys one that is not carried goes with the solved camera as something upright does that stands on
    the ground at its lowest corner. apart: moved by hand only the corners that are moved get a key.

    As a region it keeps the tracker away; as a matte what it covers passes in front.
    """

    shape: Keyed
    closed: bool = True
    width: Annotated[Keyed, Row("Width", "px", 0.1, 1, 0.5, 500, tip="How wide an open line is")] = constant(12.0)
    sharp: tuple[int, ...] = ()
    handled: tuple[int, ...] = ()
    feather: Annotated[Keyed, Row("Feather", "px", 0.1, 1, 0, 60, tip="How far the edge fades outward")] = constant(2.0)
    inward: Annotated[Keyed, Row("Inward", "px", 0.1, 1, 0, 60, tip="How far the edge fades inward")] = constant(0.0)
    feathers: tuple[float, ...] = ()
    carried: tuple[int, ...] = ()
    steady: bool = False
    apart: bool = False

    @property
    def count(self) -> int:
        """Of its corners."""
        value = self.shape.keys[0].value if self.shape.keys else self.shape.value
        return len(value) // 2 - 2 * len(self.handled)

    def keyed_at(self, frame: float) -> tuple[int, ...]:
        """The corners that a key at this frame holds."""
        key = next((k for k in self.shape.keys if k.frame == frame), None)
        return () if key is None else tuple(n for n in range(self.count) if not key.only or 2 * n in key.only)


Channel = Literal["alpha", "brightness", "red", "green", "blue"]
CHANNELS: tuple[Channel, ...] = get_args(Channel)


class Pictured(Matte, frozen=True, kw_only=True, tag="picture"):
    """A matte that was made elsewhere: a channel of a still, a numbered sequence or a movie. first: frame of the clip at which its first
    picture lies."""

    picture: Annotated[str, MediaPath] = ""
    channel: Channel = "alpha"
    first: int = 0


Source = Outline | Brushed | Keyer | Pictured


class View(NamedTuple):
    """The picture that is covered: frame of the clip, size in px, px of it for each of the plate's, and the plate itself, (h, w, 3)
    linear light of Rec.709 at this size, which is read only if a source looks at it. others: all mattes, to which one may refer.
    corners: those of an outline at this frame, (n, 2) px of the plate, where more than its keys tells them. picture: (h, w, 4) uint8, straight alpha, of a file and a
    number. clean: the clean plate, as `plate` is, and (h, w) where it is known. around: what of this frame is near, and under the horizon, where that is
    known."""

    frame: float
    width: int
    height: int
    scale: float = 1.0
    plate: Callable[[], np.ndarray] | None = None
    others: tuple["Source", ...] = ()
    corners: Callable[[Outline], np.ndarray] | None = None
    picture: Callable[[str, int], np.ndarray] | None = None
    clean: Callable[[], tuple[np.ndarray, np.ndarray]] | None = None
    around: Callable[[], Around | None] | None = None


def coverage_of(source: Source, view: View, asked: tuple[str, ...] = ()) -> np.ndarray:
    """(height, width) float32 in 0..1. asked: mattes that refer to this one; one that would go in a ring is left out."""
    match source:
        case Brushed():
            cover = _brushed(source, view)
        case Outline():
            cover = _outlined(source, view)
        case Keyer():
            cover = _keyed(source, view)
        case Pictured():
            cover = _pictured(source, view)
    cover = edged(cover, source.grow.at(view.frame)[0] * view.scale, source.soft.at(view.frame)[0] * view.scale)
    if source.inverted:
        cover = 1 - cover
    named = lambda ids: tuple(m for m in view.others if m.id in ids and m.id not in (*asked, source.id))
    if source.within:
        cover = cover * _union(named(source.within), view, (*asked, source.id))
    if without := named(source.without):
        cover = cover * (1 - _union(without, view, (*asked, source.id)))
    return cover


def _union(sources: tuple[Source, ...], view: View, asked: tuple[str, ...]) -> np.ndarray:
    total = np.zeros((view.height, view.width), np.float32)
    for source in sources:
        total = np.maximum(total, coverage_of(source, view, asked))
    return total


def _keyed(source: Keyer, view: View) -> np.ndarray:
    """Of the plate; nothing where there is none to look at, as for the tracker."""
    if view.plate is None or (source.by == "difference" and view.clean is None):
        return np.zeros((view.height, view.width), np.float32)
    if source.by == "difference" and view.clean is not None:
        return differing_cover(source, view.plate(), *view.clean(), view.frame, view.scale)
    light = view.plate()
    cover = keyed_cover(source, light, view.frame, view.scale)
    around = view.around() if source.far and source.by == "colour" and view.around is not None else None
    if around is None:
        return cover
    sky = cover * far_away(light, cover, around)
    return np.maximum(sky, clouds_among(light, sky, around))


def _pictured(source: Pictured, view: View) -> np.ndarray:
    """Of the file, laid over the whole picture; nothing where none was chosen."""
    if view.picture is None or not source.picture:
        return np.zeros((view.height, view.width), np.float32)
    codes = view.picture(source.picture, max(int(np.floor(view.frame + 0.5)) - source.first, 0)).astype(np.float32) / 255
    if source.channel == "alpha":
        cover = codes[..., 3]
    elif source.channel == "brightness":
        cover = codes[..., :3] @ BRIGHTNESS
    else:
        cover = codes[..., ("red", "green", "blue").index(source.channel)]
    cover = np.ascontiguousarray(cover)
    smaller = cover.shape[0] >= view.height
    how = cv2.INTER_AREA if smaller else cv2.INTER_LINEAR
    return cover if cover.shape == (view.height, view.width) else cv2.resize(cover, (view.width, view.height), interpolation=how)


def _brushed(source: Brushed, view: View) -> np.ndarray:
    """What was found of the nearest frame; nothing where it was not looked for."""
    width, height = (max(round(side / view.scale), 1) for side in (view.width, view.height))
    whole = laid_out(source.at(int(np.floor(view.frame + 0.5))), width, height)
    return whole if whole.shape == (view.height, view.width) else cv2.resize(whole, (view.width, view.height), interpolation=cv2.INTER_AREA)


def _outlined(source: Outline, view: View) -> np.ndarray:
    points = np.array(source.shape.at(view.frame)).reshape(-1, 2) if view.corners is None else view.corners(source)
    at = lambda value: value.at(view.frame)[0] * view.scale
    form = Form(source.sharp, source.closed, at(source.width), at(source.feather), at(source.inward), source.feathers, source.handled)
    # the centre of the top-left pixel is (0, 0) at every scale
    return coverage((points + 0.5) * view.scale - 0.5, view.width, view.height, form)


def line_of(outline: Outline, points: np.ndarray) -> np.ndarray:
    """(m, 2) the line of an outline whose shape is points (n + 2 h, 2) now."""
    return smooth_line(points, sharp=outline.sharp, closed=outline.closed, handled=outline.handled)


def matte_of(sources: tuple[Source, ...], view: View) -> np.ndarray:
    """(height, width) float32: the union of the sources that are on."""
    return _union(tuple(source for source in sources if source.on), view, ())


def ignored(regions: tuple[Source, ...], view: View) -> np.ndarray | None:
    """(height, width) bool: what the tracker must not look at, or None."""
    return matte_of(regions, view) > 0.5 if any(r.on for r in regions) else None
