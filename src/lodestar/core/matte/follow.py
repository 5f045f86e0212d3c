"""Finding a brushed subject on its frame, and following it through the others.

All but the soft edge is worked out on a smaller picture. On each frame: the subject of the frame before is carried over by the still
scene's motion and dense flow, and weighed against what differs from the predicted background and against colour models of both sides.
Source of the flow: T. Kroeger, R. Timofte, D. Dai, L. Van Gool, Fast Optical Flow using Dense Inverse Search, ECCV 2016. The others stand
in `background`, `colours`, `cut` and `edge`.
"""

import threading
from collections.abc import Callable
from typing import NamedTuple

import cv2
import numpy as np

from ..basics.geometry import largest, length
from . import colours
from .background import NODE_PX, Background, Like, Reader, Warp, differs, differs_in_shade, shade_of_ground
from .cut import SMOOTH, left_behind, own_pieces, painted_out, parted, pieces, signed_distance
from .edge import soft_edge
from .flicker import Beside, calmed
from .hair import hair_band, hair_widths
from .shadow import Stands, Upright, light_by_shadow
from .strokes import HAIR, INSIDE, OUTSIDE, Brushed, Found, drawn, laid_out, stored

# frame -> (3,) towards the sun; None where nobody said
Light = Callable[[int], np.ndarray | None]
# frame -> (rows, columns) at the nodes of `background.Warp`: heights of the still scene over the level ground; None where nobody knows
Heights = Callable[[int], np.ndarray | None]
# (frame, (h, w) bool: what surely is of a subject) -> whether that changes where `Warp` says that the still scene lies, which points on it no longer tell
LeaveOut = Callable[[int, np.ndarray], bool]

SMALL_PX = 640  # width of the picture that is worked on
W_COLOUR, W_BACKGROUND, PRIOR_PX = 0.45, 1.5, 5.0  # weights of the evidence; px from the carried border at which it says as much
CLEAR_PX = 4  # from the subject, of the small picture: from here on its shadow is ground and nothing of it
PAD_PX = 70  # round the subject, of the small picture
CALM_PAD_PX = 16  # the same, of what is brought over from the frames beside it
SUN_BY = 1200  # px of a subject, whose shadow tells where the sun stands
LOST_PX = 20  # a subject of fewer px of the small picture is gone
OWN_SHARE = 0.2  # of a subject: what comes in apart from it, and is larger, is another one that looks alike
RING_PX = 20  # round a subject, whose colours are those of its surroundings
# what differs from the background and is no darker is no shadow: so near to the subject it may be a part that was lost, and does not teach
# what else moves. From px of the small picture on, and over how many, it does again
NEAR_PX, PAST_NEAR_PX = 6, 8
EXPECTED_PX = 8  # from what was carried over: as far out the subject may be
# of the camera's height over the ground: what lies lower is ground, on which shadows fall; what lies higher has a shadow the seldomer, down to a share
LEVEL, RAISED, SHADOW_ON_WALLS = 0.06, 0.2, 0.25
LIKE = 1.0  # log of how much likelier a colour is of the subject, from which on it may be the subject
DOUBTED_PX, OFF_BY = 12, 0.104  # from the border, of the small picture; of an overlap
GLIMPSED_PX = 40  # from the strokes, of the small picture: at first what lies farther is taken for what is round the subject
# half of the band of a soft edge, px of the small picture: as far as its mask may be off, and of a px of speed a frame what the shutter blurs; at most
EDGE_PX, BLURRED, MOST_EDGE_PX = 1.5, 0.1, 5.0
SOME = 0.05  # of alpha: from here on, on both sides, it is soft
MOVED_ON = 0.8  # of what was painted of a subject, that other frames show to be something else
DARKER = 0.95  # of what was there, up to which the ground is in shade
LIT = 0.12  # of a colour's value, by which it lies above the background where it surely is no shadow on it


class Known(NamedTuple):
    """What was found of a frame, each (h, w) of the small picture. mask: bool; odds: log-odds of not being the background; other: 0..1, how
    surely something else than the subject moved here; hair: px from the nearest place of the border up to which there may be hair."""

    mask: np.ndarray
    odds: np.ndarray
    other: np.ndarray
    hair: np.ndarray


class Rough(NamedTuple):
    """A subject on a frame, without its soft edge. mask (h, w) bool and hair (h, w), px, as of `Known`; radius: of the soft edge, px of the plate; sure, selected: as
    of `Found`."""

    frame: int
    mask: np.ndarray
    hair: np.ndarray
    radius: int
    sure: float
    selected: bool


class Follower:
    """Finds and follows one subject. reader: frames (h, w, 3) uint8; warp: where the still scene goes; frames: that can be read; stands,
    light: how a subject stands and where the sun is, by which its own shadow falls.

    It keeps what it found of the frame that was painted and of the last one, and what the subject's colours were.
    """

    def __init__(
        self,
        reader: Reader,
        warp: Warp,
        frames: range,
        width: int,
        height: int,
        stands: Stands = lambda frame, at: None,
        light: Light = lambda frame: None,
        heights: Heights = lambda frame: None,
        leave_out: LeaveOut = lambda frame, subject: False,
    ) -> None:
        self.stands, self.light, self.heights, self.leave_out = stands, light, heights, leave_out
        self.reader, self.frames, self.width, self.height = reader, frames, width, height
        self.shrink = max(1, round(width / SMALL_PX))
        self.size = (width // self.shrink, height // self.shrink)
        self.background = Background(reader, warp, frames, (height, width))
        self.known: dict[int, Known] = {}  # the frame that was painted, and the last one
        self._small_kept: dict[int, np.ndarray] = {}
        self._lock = threading.Lock()  # small pictures are asked for by the thread that makes soft edges, too
        self._key: np.ndarray | None = None  # the colours of the frame that was painted
        self._colours: np.ndarray | None = None
        self._shade: np.ndarray | None = None  # what its shadow leaves of the ground
        self._sun: np.ndarray | None = None  # (3,) towards it, by the subject's shadow on the frame that was painted
        self._plain: dict[tuple[int, bool], tuple] = {}  # of the frame that was looked at, and whether nothing was left out for its colours
        self._last: tuple | None = None

    # pictures ----------------------------------------------------------------------------------------------------------------

    def small(self, frame: int) -> np.ndarray:
        """A frame at the small size; the last few are kept."""
        with self._lock:
            if frame not in self._small_kept:
                while len(self._small_kept) > 3:
                    self._small_kept.pop(next(iter(self._small_kept)))
                self._small_kept[frame] = cv2.resize(self.reader(frame), self.size, interpolation=cv2.INTER_AREA)
            return self._small_kept[frame]

    def to_plate(self, xy: np.ndarray) -> np.ndarray:
        """Places of the small picture in the plate, px to px: the centre of the top-left pixel is (0, 0) in both."""
        return (xy + 0.5) * self.shrink - 0.5

    def to_small(self, xy: np.ndarray) -> np.ndarray:
        """The other way."""
        return (xy + 0.5) / self.shrink - 0.5

    def look_ahead(self, frame: int, check: Callable[[], None]) -> None:
        """Read what the background of a frame is predicted from. check is called between frames and may raise."""
        for source in sorted({frame, *self.background.sources_of(frame)}):
            check()
            if source == frame or self.background.map(frame, source) is not None:
                self.reader(source)

    def behind(self, frame: int, part: tuple[slice, slice]) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """The predicted background of a part of the small picture: colour, spread, support."""
        ys, xs = np.mgrid[part[0], part[1]]
        found = self.background.at(frame, self.to_plate(np.stack([xs.ravel(), ys.ravel()], 1).astype(np.float32)))
        return found.colour.reshape(*ys.shape, 3), found.spread.reshape(ys.shape), found.support.reshape(ys.shape)

    def strokes_on(self, source: Brushed, frame: int) -> np.ndarray:
        """(h, w) uint8 of the small picture: the strokes on a frame."""
        full, out = drawn(source.strokes, frame, self.width, self.height), np.zeros(self.size[::-1], np.uint8)
        for value in (OUTSIDE, INSIDE):
            share = cv2.resize((full == value).astype(np.uint8) * 255, self.size, interpolation=cv2.INTER_AREA)
            out[share > 60] = value
        return out

    def _hair_on(self, source: Brushed, frame: int, mask: np.ndarray) -> np.ndarray:
        """`hair_widths` of a mask (h, w) bool by the strokes on a frame."""
        if not any(s.frame == frame and s.means == HAIR for s in source.strokes):
            return np.zeros(mask.shape, np.float32)
        full = drawn(source.strokes, frame, self.width, self.height, (HAIR,))
        return hair_widths(mask, cv2.resize(full, self.size, interpolation=cv2.INTER_AREA) > 0)

    def _sides(self, source: Brushed, frame: int) -> tuple[np.ndarray, ...]:
        """Of the strokes on a frame, each (h, w): what is painted inside and outside, bool; what is surely not of the subject, bool: the latter, or what lies far
        from all strokes where nothing is painted out; and by how much nearer an inside stroke is than an outside one, -1.5 to 1.5."""
        strokes = self.strokes_on(source, frame)
        inside, outside = strokes == INSIDE, strokes == OUTSIDE
        to_in, to_out = (
            cv2.distanceTransform((~side).astype(np.uint8), cv2.DIST_L2, 3) if side.any() else np.full(side.shape, GLIMPSED_PX, np.float32)
            for side in (inside, outside)
        )
        rest = outside if outside.any() else to_in > GLIMPSED_PX
        return inside, outside, rest, np.clip((to_out - to_in) / 30, -1.5, 1.5)

    # the painted frame ---------------------------------------------------------------------------------------------------------

    def glimpse(self, source: Brushed, frame: int) -> Found:
        """A first guess of the subject on a painted frame, while the background is still looked for: by colours, by where its strokes lie, and by what was
        found there before."""
        picture, (inside, outside, rest, near) = self.small(frame), self._sides(source, frame)
        bins, weight, seed = colours.bins_of(picture), near, inside
        before = source.at(frame)
        if before is not None and before.alpha.size:
            mask = cv2.resize(laid_out(before, self.width, self.height), self.size, interpolation=cv2.INTER_AREA) > 0.5
            to_any = cv2.distanceTransform((~(inside | outside)).astype(np.uint8), cv2.DIST_L2, 3)
            said = np.clip(to_any / GLIMPSED_PX, 0, 1)  # beside a stroke it is the stroke that counts
            weight = said * 3 * np.clip(signed_distance(mask) / PRIOR_PX, -1, 1) + (1 - said) * near
            seed, rest = inside | mask & ~outside, outside | ~mask & ~inside
        weight = weight + colours.log_ratio_of_whole(bins, colours.whole_model(bins, seed, rest))
        weight[inside], weight[outside] = 12, -12
        found = pieces(parted(weight.astype(np.float32), picture, np.zeros_like(picture), weight > 0, SMOOTH, (60, 20)), seed)
        alpha = cv2.resize(cv2.GaussianBlur(found.astype(np.float32), (0, 0), 1.0), (self.width, self.height))
        return stored(frame, alpha, 1.0, True)

    def select(self, source: Brushed, frame: int) -> Found:
        """The subject on a frame by its strokes alone."""
        inside, outside, rest, near = self._sides(source, frame)
        self._key = self._colours = colours.whole_model(colours.bins_of(self.small(frame)), inside, rest)
        free = self._left_its_place(frame, inside)
        self.background.like, self.background.surely_like = None if free else self._like_now(), None
        # first by what was painted; then, where a hand told both sides, by the colours of what was found and of what is round it, else without its own shadow
        both = bool(outside.any())
        shadow = np.zeros(inside.shape, bool)
        for again in (False, True):
            if again and not (both or shadow.any()):
                break
            if again and both:
                self.background.surely_like = self._like_now()
            picture, back, plain, odds, bins, spread, _ = self._look_at(frame)
            told = colours.log_ratio_of_whole(bins, self._key)
            alike = np.clip(told / 2, 0, 1)
            odds = alike * plain + (1 - alike) * odds
            if shadow.any() and (shade := shade_of_ground(picture, back, shadow & (plain > 0) & ~inside)) is not None:
                odds = np.where(shadow, np.minimum(odds, differs_in_shade(picture, back, spread, shade)), odds).astype(np.float32)
                told = np.where(shadow & (odds < 0), np.minimum(told, 0), told)
            moved = odds
            if (outside & (odds > 0)).sum() > 20:  # something else that moved was painted out: a shadow, another person
                other = colours.whole_model(bins, inside, outside & (odds > 0))
                moved = np.where(odds > 0, odds * np.clip((colours.log_ratio_of_whole(bins, other) + 1.5) / 2, -0.3, 1), odds)
            weight = told + 1.2 * moved + near
            weight[inside], weight[outside] = 12, -12
            found = pieces(parted(weight.astype(np.float32), picture, back, weight > 0, 1.3 * SMOOTH, (120, 50)), inside)
            # of what was found by colours alone, those teach nothing new
            if both:
                self._learn(bins, found & (inside | (moved > 0)) if plain.any() else found, outside | _round(found))
            elif not again:
                shadow = self._own_shadow(frame, found, np.s_[0 : self.size[1], 0 : self.size[0]])
            if self.leave_out(frame, found & (told > LIKE)):
                self._plain = {}
                self.background.forget_maps()
        self.known[frame] = Known(found, odds, np.clip(odds, 0, 1), np.zeros(found.shape, np.float32))
        # once more from what was found, whose colours are known place by place now
        return self.step(source, frame, frame)

    def standing(self, frame: int) -> Upright | None:
        """How the subject of a frame that is known stands in the scene; None where nobody knows."""
        ys, xs = np.nonzero(self.known[frame].mask)
        few = slice(None, None, 1 + len(xs) // SUN_BY)
        return self.stands(frame, self.to_plate(np.stack([xs[few], ys[few]], 1).astype(float))) if len(xs) else None

    def find_sun(self, source: Brushed, frame: int) -> np.ndarray | None:
        """(3,) towards the sun where nobody read it, by what is darker than it was beside the subject of a frame that was just selected; None where that
        tells nothing, or where not both sides of it were painted."""
        upright = self.standing(frame)
        if self.light(frame) is not None or upright is None or not (self.strokes_on(source, frame) == OUTSIDE).any():
            return None
        picture, back, plain, *_ = self._looked_at(frame)
        dark = (plain > 0) & (_left_of(picture, back) < DARKER) & ~self.known[frame].mask
        self._sun = light_by_shadow(upright, self.known[frame].mask, dark, self.to_small)
        return self._sun

    def _left_its_place(self, frame: int, inside: np.ndarray) -> bool:
        """Whether other frames show something else where a subject was painted, (h, w) bool. What has its colours there is the place, then, and need not be
        left out of them: where nobody says what is not of it, a wall of its colours would be taken along."""
        self.background.like = self.background.surely_like = None
        return bool(inside.any() and (self._look_at(frame)[2][inside] > 0).mean() > MOVED_ON)

    def _looked_at(self, frame: int) -> tuple[np.ndarray, ...]:
        """All of a frame, its background, its evidence twice (`differs`), its colours' bins, the background's spread and its support; of the last frame that
        was looked at they are kept."""
        return self._last[1] if self._last is not None and self._last[0] == frame else self._look_at(frame)

    def _look_at(self, frame: int) -> tuple[np.ndarray, ...]:
        """The same, looked at again; what does not change with the subject's colours is kept for the next stroke."""
        size = self.size[::-1]
        ys, xs = np.mgrid[0 : size[0], 0 : size[1]]
        xy = self.to_plate(np.stack([xs.ravel(), ys.ravel()], 1).astype(np.float32))
        of = frame, self.background.like is None
        if of not in self._plain:
            self._plain = {known: kept for known, kept in self._plain.items() if known[0] == frame}
            self._plain[of] = self.background.plain_at(frame, xy), colours.bins_of(self.small(frame))
        plain, bins = self._plain[of]
        found, picture = self.background.cleared(frame, xy, plain), self.small(frame)
        back, spread, support = found.colour.reshape(*size, 3), found.spread.reshape(size), found.support.reshape(size)
        evidence = self._differs(frame, np.s_[0 : size[0], 0 : size[1]], picture, back, spread, support)
        self._last = frame, (picture, back, *evidence, bins, spread, support)
        return self._last[1]

    def _learn(self, bins: np.ndarray, mask: np.ndarray, outside: np.ndarray) -> None:
        """The colours of a subject (h, w) bool, beside those of what is not of it (h, w) bool."""
        self._key = self._colours = colours.whole_model(bins, mask, outside)

    def _like_now(self) -> Like:
        """Which colours are those of the subject rather than of what is round it, as far as is known now."""
        assert self._key is not None
        like = colours.log_ratios(self._key) > LIKE
        return lambda values: like[colours.numbers_of(values[None])[0]]

    def _differs(self, frame: int, part: tuple[slice, slice], *of: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """`background.differs` of a part of the small picture, where shadows fall on level ground sooner than on what stands on it."""
        plain, shaded = differs(*of)
        heights = self.heights(frame)
        if heights is None:
            return plain, shaded
        ys, xs = np.mgrid[part]
        at = (self.to_plate(np.dstack([xs, ys])) / NODE_PX).astype(np.float32)
        high = cv2.remap(heights, at, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)  # type: ignore[call-overload]
        share = np.clip((RAISED - high) / (RAISED - LEVEL), SHADOW_ON_WALLS, 1)
        return plain, (plain + share * (shaded - plain)).astype(np.float32)

    # from frame to frame -------------------------------------------------------------------------------------------------------

    def step(self, source: Brushed, frame: int, before: int) -> Found:
        """The subject of a frame from that of the frame before it, or after it; strokes on the frame hold."""
        return self.edged(self.rough(source, frame, before))

    def rough(self, source: Brushed, frame: int, before: int) -> Rough:
        """The same without its soft edge, which the next frame does not wait for: see `edged`."""
        assert self._key is not None
        self.background.forget_far(frame, next(iter(self.known)))
        strokes = self.strokes_on(source, frame)
        last = self.known[before]
        look_for = last.mask | (strokes == INSIDE)
        if look_for.sum() < LOST_PX:
            return self._kept(frame, before, self._nothing(), 0, 1.0, False)
        part = self._part_round(look_for)
        carried, off, flow, entered = self._carried(frame, before, part)
        picture, prior = self.small(frame)[part], carried(last.mask) > 0.5
        away, trust = signed_distance(prior), 1 / (1 + (off / 2) ** 2)
        trust[entered] = 0
        shape = np.clip(away / PRIOR_PX, -2.5, 2.5) * np.where(entered, 0, 0.35 + 0.65 * trust)
        inside, outside = np.clip(away / 4, 0, 1) * (away < 60) * trust, np.clip(-away / 4, 0, 1) * (away > -60)
        here, held = strokes[part], bool((strokes > 0).any())
        if held:  # a stroke that says otherwise weakens what was carried over round it
            against = ((here == INSIDE) & (away < 0)) | ((here == OUTSIDE) & (away > 0))
            doubt = np.clip(cv2.distanceTransform((~against).astype(np.uint8), cv2.DIST_L2, 3) / 40, 0.1, 1) if against.any() else 1.0
            shape, inside, outside = shape * doubt, inside * doubt, outside * doubt
            inside, outside = np.where(here > 0, 5.0 * (here == INSIDE), inside), np.where(here > 0, 5.0 * (here == OUTSIDE), outside)
        if frame == before:  # just looked at, all of it
            back, plain, shaded, spread, support = (whole[part] for whole in (*self._looked_at(frame)[1:4], *self._looked_at(frame)[5:]))
        else:
            back, spread, support = self.behind(frame, part)
            plain, shaded = self._differs(frame, part, picture, back, spread, support, away > -EXPECTED_PX)
        # where the subject was, and is of its colours still, what is darker than the ground behind it is no shadow on that ground
        told = colours.log_ratio_of_whole(colours.bins_of(picture), self._key)
        alike = np.clip(told / 1.5, 0, 1)
        was = np.clip(away / 3 + 0.5, 0, 1) * trust * alike
        odds = was * plain + (1 - was) * shaded
        own = self._own_shadow(frame, prior, part)
        if own.any():
            shade = shade_of_ground(picture, back, own & (plain > 0) & (away < -CLEAR_PX))
            self._shade = shade if shade is not None else self._shade
            if self._shade is not None:
                odds = np.where(own, np.minimum(odds, differs_in_shade(picture, back, spread, self._shade)), odds).astype(np.float32)
        moving = np.clip(carried(last.odds), 0, 1)
        data, moved = self._evidence(picture, carried(self.small(before)), (inside, outside), odds, (moving, carried(last.other)))
        weight, seed = (shape + data).astype(np.float32), prior
        if held:
            weight[here == INSIDE], weight[here == OUTSIDE], seed = 14, -14, seed | (here == INSIDE)
        known = not held and bool(plain.any())  # without a background nothing speaks for a piece, and nothing against it
        cut = parted(weight, picture, back, prior)
        new = pieces(cut, seed, moved if known else None)
        if plain.any():
            rest = cut & ~new
            new |= own_pieces(rest & ~painted_out(rest, here == OUTSIDE), odds, told, OWN_SHARE * new.sum())
            new &= ~left_behind(new, flow)
        lost = np.clip((signed_distance(new) + NEAR_PX + PAST_NEAR_PX) / PAST_NEAR_PX, 0, 1) * _no_shadow(picture, back, support)
        found = self._nothing()
        found.mask[part], found.odds[part], found.other[part] = new, odds, np.clip(odds, 0, 1) * (1 - lost)
        found.hair[part] = carried(last.hair)
        found = found._replace(hair=np.maximum(found.hair, self._hair_on(source, frame, found.mask)))
        surely = self._nothing().mask
        surely[part] = new & (told > LIKE)
        self.leave_out(frame, surely)
        sure = 1.0 if held else self._sure(new, prior, data, last.mask)
        speed = float(np.percentile(length(flow)[new], 70)) if new.any() else 0.0
        return self._kept(frame, before, found, int(self.shrink * min(EDGE_PX + BLURRED * speed, MOST_EDGE_PX)), sure, held)

    def _nothing(self) -> Known:
        shape = self.size[::-1]
        return Known(np.zeros(shape, bool), *(np.zeros(shape, np.float32) for _ in range(3)))

    def _kept(self, frame: int, before: int, found: Known, radius: int, sure: float, selected: bool) -> Rough:
        """What is known of a frame. Of the others only the frame that was painted is needed again: the other direction begins there."""
        painted = next(iter(self.known))
        self.known = {f: k for f, k in self.known.items() if f in (painted, before)} | {frame: found}
        for other in self.background.sources_of(frame):  # by what is known of the place now, whenever the edge is made
            self.background.map(frame, other)
        return Rough(frame, found.mask, found.hair, radius, sure, selected)

    def _own_shadow(self, frame: int, mask: np.ndarray, part: tuple[slice, slice]) -> np.ndarray:
        """(h, w) bool: where the shadow of a subject (h, w) bool falls by the sun, in a part of the small picture; nowhere if that is not known."""
        ys, xs = np.nonzero(mask)
        found = np.zeros(self.size[::-1], np.uint8)
        at = np.stack([xs + part[1].start, ys + part[0].start], 1).astype(float)
        light = self.light(frame)
        light = self._sun if light is None else light
        upright = self.stands(frame, self.to_plate(at)) if len(xs) and light is not None and light[2] > 0 else None
        if upright is not None and light is not None:
            at = np.round(self.to_small(upright.shadow(light)))
            inside = (at >= 0).all(1) & (at < self.size).all(1)
            x, y = at[inside].astype(int).T
            found[y, x] = 1
            found = cv2.dilate(found, np.ones((5, 5), np.uint8))
        return found[part] > 0

    def _part_round(self, mask: np.ndarray) -> tuple[slice, slice]:
        ys, xs = np.nonzero(mask)
        return (
            slice(max(0, int(ys.min()) - PAD_PX), min(self.size[1], int(ys.max()) + PAD_PX)),
            slice(max(0, int(xs.min()) - PAD_PX), min(self.size[0], int(xs.max()) + PAD_PX)),
        )

    def _carried(self, frame: int, before: int, part: tuple[slice, slice]):
        """A function that brings a picture of the frame before onto a part of this one; by how many px its two flows disagree; the flow that
        the still scene leaves; and (h, w) bool what was out of the picture then, of which the frame before says nothing."""
        ys, xs = np.mgrid[part[0], part[1]].astype(np.float32)
        if frame == before:
            return (lambda picture: picture[part]), np.zeros_like(xs), np.zeros((*xs.shape, 2), np.float32), np.zeros(xs.shape, bool)
        nodes = self.background.map(frame, before)
        if nodes is None:
            still = np.dstack([xs, ys])
        else:
            grid = (self.to_plate(np.dstack([xs, ys])) / NODE_PX).astype(np.float32)
            still = (cv2.remap(nodes, grid, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE) + 0.5) / self.shrink - 0.5  # type: ignore[call-overload]
        look = lambda picture, where: cv2.remap(picture, where, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)  # type: ignore[call-overload]
        grey = lambda picture: cv2.cvtColor(picture, cv2.COLOR_RGB2GRAY)
        now, then = grey(self.small(frame)[part]), grey(look(self.small(before), still))
        search = cv2.DISOpticalFlow.create(cv2.DISOPTICAL_FLOW_PRESET_MEDIUM)
        forth, back = search.calc(now, then, None), search.calc(then, now, None)  # type: ignore[call-overload]
        ends = np.dstack([xs - xs[0, 0], ys - ys[0, 0]]) + forth
        off = length(look(back, ends) + forth)
        places = look(still.astype(np.float32), ends)

        def carried(picture: np.ndarray) -> np.ndarray:
            return look(picture if picture.dtype == np.uint8 else picture.astype(np.float32), places)

        return carried, off, forth, ((places < -0.5) | (places > np.array(self.size) - 0.5)).any(-1)

    def _evidence(self, picture, before, sides, odds, moving) -> tuple[np.ndarray, np.ndarray]:
        """Log-odds of each pixel by its colour and by the background; and those of the background alone, less what else moved.

        before: the frame before, carried over; sides: weights of its pixels inside and outside in the colour models; moving: how surely it
        moved, 0..1, and how surely something else did.
        """
        inside, outside = sides
        bins, old = colours.bins_of(picture), colours.bins_of(before)
        assert self._key is not None and self._colours is not None
        grid, total, whole = colours.local_model(old, inside, outside)
        self._colours = 0.9 * self._colours + 0.1 * whole
        still = colours.log_ratio(bins, grid, total, (0.7 * self._colours + 0.3 * self._key).astype(np.float32), 15.0, 3.0)
        grid, total, whole = colours.local_model(old, inside * moving[0], outside * moving[1])
        # of what moved: the subject, or something that goes with it, as its shadow does
        among = colours.log_ratio(bins, grid, total, (0.5 * (self._key + whole) * [1, 0]).astype(np.float32), 8.0, 3.0)
        share = np.clip(odds / 1.5, 0, 1)
        moved = np.where(odds > 0, odds * np.clip((among + 1.5) / 2, -0.3, 1), odds)
        return W_COLOUR * (still + share * (among - still)) + W_BACKGROUND * moved, moved

    def _sure(self, new: np.ndarray, prior: np.ndarray, data: np.ndarray, last: np.ndarray) -> float:
        """Expected overlap with the true matte: how much of what was found the evidence alone says, too, near its border, where the price of a
        border and what was carried over decide else. The share that it is off by was fitted on five rendered clips with true mattes."""
        if not new.any():
            rim = np.ones(self.size[::-1], bool)
            rim[12:-12, 12:-12] = False
            left = rim[last].mean() > 0.3
            return 0.9 if prior.sum() < 200 or left else 0.3
        alone = np.where(np.abs(signed_distance(new)) < DOUBTED_PX, data > 0, new)
        return float(np.clip((new & alone).sum() / (new | alone).sum() - OFF_BY, 0, 1))

    def edged(self, rough: Rough) -> Found:
        """With the soft edge at full size; what is covered is left out of the backgrounds of other frames. On another thread while the next frame is looked
        at, if the backgrounds of that one are not to be predicted from this frame: see `Background.may_show`."""
        frame, mask, _, radius, sure, selected = rough
        alpha = np.zeros((self.height, self.width), np.float32)
        if mask.any():
            pad = -(-(2 * radius + 40) // self.shrink)
            hair = hair_band(mask, rough.hair)
            ys, xs = np.nonzero(mask | hair)
            y0, y1 = max(0, int(ys.min()) - pad), min(self.size[1], int(ys.max()) + pad + 1)
            x0, x1 = max(0, int(xs.min()) - pad), min(self.size[0], int(xs.max()) + pad + 1)
            soft = cv2.GaussianBlur(mask[y0:y1, x0:x1].astype(np.float32), (0, 0), 1.2)
            part = np.s_[y0 * self.shrink : y1 * self.shrink, x0 * self.shrink : x1 * self.shrink]
            corner = np.array([x0, y0], np.float32) * self.shrink
            size = (x1 - x0) * self.shrink, (y1 - y0) * self.shrink
            soft, some = (cv2.resize(of.astype(np.float32), size) for of in (soft, hair[y0:y1, x0:x1]))
            alpha[part] = soft_edge(self.reader(frame)[part], soft, radius, lambda xy: self.background.at(frame, xy + corner), some > 0.5)
        self.background.hide(frame, alpha)
        return stored(frame, alpha, sure, selected)

    def calmed(self, before: Found, found: Found, after: Found) -> Found:
        """The matte of a frame without what flickers, by those beside it. Strokes hold: a frame that has some stays as it is."""
        if found.selected or not found.alpha.size:
            return found
        high, wide = found.alpha.shape
        y0, x0 = (max(at // self.shrink - CALM_PAD_PX, 0) for at in (found.top, found.left))
        y1, x1 = (
            min(-(-end // self.shrink) + CALM_PAD_PX, most) for end, most in ((found.top + high, self.size[1]), (found.left + wide, self.size[0]))
        )
        full = np.s_[y0 * self.shrink : y1 * self.shrink, x0 * self.shrink : x1 * self.shrink]
        whole = {one.frame: laid_out(one, self.width, self.height) for one in (before, found, after)}
        grey = lambda frame: np.ascontiguousarray(cv2.cvtColor(self.small(frame)[y0:y1, x0:x1], cv2.COLOR_RGB2GRAY))
        alpha = whole[found.frame]
        alpha[full] = calmed(*(Beside(grey(frame), whole[frame][full]) for frame in (found.frame, before.frame, after.frame)))
        return stored(found.frame, alpha, found.sure, found.selected)

    def begin_colours_again(self) -> None:
        """The other direction begins from the colours of the painted frame."""
        self._colours = self._key

    def correct(self, source: Brushed, found: Found) -> Found:
        """A frame that was found before, with the strokes that lie on it now held against it."""
        frame, alpha = found.frame, laid_out(found, self.width, self.height)
        mask = cv2.resize(alpha, self.size, interpolation=cv2.INTER_AREA) > 0.5
        _, _, plain, _, bins, *_ = self._looked_at(frame)
        # hair that was carried here is where the matte is soft
        some = (alpha > SOME) & (alpha < 1 - SOME)
        hair = hair_widths(mask, cv2.resize(some.astype(np.float32), self.size, interpolation=cv2.INTER_AREA) > SOME)
        self.known[frame] = Known(mask, plain, np.clip(plain, 0, 1), np.where(hair > 2 * EDGE_PX, hair, 0))
        self._learn(bins, mask, _round(mask))
        return self.step(source, frame, frame)


def _round(mask: np.ndarray) -> np.ndarray:
    """(h, w) bool: what lies about a mask (h, w) bool."""
    return (cv2.dilate(mask.astype(np.uint8), np.ones((2 * RING_PX + 1, 2 * RING_PX + 1), np.uint8)) > 0) & ~mask


def _no_shadow(picture: np.ndarray, background: np.ndarray, support: np.ndarray) -> np.ndarray:
    """(h, w) 0..1: how surely a pixel is no shadow on its background, as some colour of it is brighter than there."""
    return np.clip((_left_of(picture, background) - 1) / LIT, 0, 1) * (support >= 2)


def _left_of(picture: np.ndarray, background: np.ndarray) -> np.ndarray:
    """(h, w): how many times as bright a pixel is as its background, by the colour that lost least."""
    return largest((cv2.blur(picture.astype(np.float32), (3, 3)) + 4) / (cv2.blur(background, (3, 3)) + 4))
