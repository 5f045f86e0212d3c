"""What of a picture is infinitely far away: the rest is told by solved points that are near, and by the horizon."""

from typing import NamedTuple

import cv2
import numpy as np
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

LINKED = 0.1  # of the picture's width: points of one thing lie no farther from each other,
AS_DEEP = 0.12  # and their depths differ by no more than this share
CLEAR_OF = 0.02  # of the width: so far from all that is not sky a px must lie to be taken for it at once
SEED_PX = 2.0  # of the plate: what is near round a near point. More of it would lie past the border of a thing whose mark is on its rim
RIM = 0.006  # of the width: half of what a tracker looks at round a point
SURE, UNLIKE = 0.9, 0.05  # cover of the key: from which a px may be sky, and up to which it is not
GAPS = 0.05  # of a near thing, from which patches like sky are gaps in it
WIDE = 0.012  # of the picture's width, from the middle of a wide gap to its edge
MOSTLY = 0.6  # of a patch
BESIDE, DIFFERS = 0.004, 0.11  # of the width, from a border; of the root of light, white 1, by which a thing before the sky differs from it there
STRAY = 2  # points of a thing that may lie in the sky by mistake
MANY_NEAR = 60  # points that tell where things are
MOST_POINTS = 3000  # that are looked at
NEAR, FAR = 1, 2
UNSTEADY = 8  # of 255: so much more than one px off a place differs that is not where a turn alone would have it
WHOLE_PX, SURELY_PX = 3, 3  # of the small picture: what is narrower is rather an edge or noise; rim that may be beside the thing
BETWEEN, ROUND = 0.007, 0.0095  # of the width: parts of a thing lie no farther apart; within this its edge is looked for
NOISE = 2  # of 255, up to which a px differs from those round it by chance
EDGE_PX = 1.0  # over which the cut fades, so that a soft edge of the key is not cut hard


class Around(NamedTuple):
    """What is known of a frame: pixels (n, 2) and depths (n,) of solved points that are near, px of the picture; below (h, w): what lies under the
    horizon; moved (a, b) bool, of a smaller picture: what `unsteady` tells, None where nobody knows; scale: px of the picture for each of the plate's."""

    pixels: np.ndarray
    depths: np.ndarray
    below: np.ndarray
    moved: np.ndarray | None = None
    scale: float = 1.0


def far_away(light: np.ndarray, cover: np.ndarray, around: Around) -> np.ndarray:
    """(h, w) float32, 1 for what of a cover (h, w) is far away. light: (h, w, 3) linear light of Rec.709.

    Near are the places of near points, and what is below the horizon; far is what the cover holds clear of them and of the hulls of things that they
    make. Between them the border runs along edges of the picture. Source: the watershed by markers, F. Meyer, Color Image Segmentation, 1992.
    """
    h, w = cover.shape
    inside = np.flatnonzero(((around.pixels >= 0) & (around.pixels <= np.array([w, h]) - 1)).all(1))
    inside = inside[:: -(-len(inside) // MOST_POINTS) or 1]
    points, depths = np.round(around.pixels[inside]).astype(int), around.depths[inside]
    which = _things(points, depths, LINKED * w)
    size = np.bincount(which, minlength=1)[which] if len(which) else which
    held = cover > SURE
    # a point alone in what looks like sky is rather a false one
    kept = (size > 2) | ~held[points[:, 1], points[:, 0]]
    points, which = points[kept], which[kept]
    hulls, near = np.zeros((h, w), np.uint8), np.zeros((h, w), np.uint8)
    # a point at the rim of the sky does not tell on which side of it the sky is
    clear = cv2.distanceTransform(_without_specks(held, RIM * w), cv2.DIST_L2, 5)
    deep = clear[points[:, 1], points[:, 0]] > RIM * w
    # a thing of other colours is told by these: between its parts the sky may be seen, and the few of its points that lie in that are false
    alike = np.bincount(which, deep, minlength=1)[which] > STRAY if len(which) else deep
    outlines = {int(k): cv2.convexHull(points[which == k].astype(np.int32)) for k in np.unique(which) if (which == k).sum() > 2}
    for k in np.unique(which[alike]):
        cv2.fillConvexPoly(hulls, outlines[int(k)], 1)
    near[points[deep & alike, 1], points[deep & alike, 0]] = 1
    dark = cover < UNLIKE
    far = _flooded(light, cover, (near, hulls, around.below), around.scale)
    # beside what the key leaves out its own edge is the better one
    wider = lambda mask: cv2.dilate(mask.astype(np.uint8), np.ones((7, 7), np.uint8)) > 0
    far = (far > 0) | (wider(dark) & wider(far))
    count, names = cv2.connectedComponents(_without_specks(cover > 0.5, RIM * w), connectivity=8)
    touched = np.zeros(count, bool)
    touched[names[near > 0]] = True
    touched[0] = True
    # patches of the key that no near point touches, as between leaves, are as far as the rest, but for the few that lie on a thing that is near:
    # stones and sheens, no gaps
    free = ~touched[names]
    area = np.bincount(names.ravel(), minlength=count)
    reach = max(round(CLEAR_OF * w), 2)
    for hull in outlines.values():
        x, y, across, high = cv2.boundingRect(hull)
        part = slice(max(y - reach, 0), y + high + reach), slice(max(x - reach, 0), x + across + reach)
        names_here = names[part]
        own = np.zeros(names_here.shape, np.uint8)
        cv2.fillConvexPoly(own, hull - [part[1].start, part[0].start], 1)
        gaps = free[part] & (own > 0)
        # through what has one wide gap more may be seen
        if 0 < gaps.sum() < GAPS * own.sum() and clear[part][gaps].max() < WIDE * w:
            wide = cv2.dilate(own, np.ones((5, 5), np.uint8), iterations=max(reach // 4, 1)) > 0
            within = np.bincount(names_here[wide], minlength=count) > MOSTLY * area
            within[0] = False
            if within.any():
                free[part] &= ~within[names_here]
    far = (far & touched[names] | free) & ~around.below
    if around.moved is None:
        return _soft(far)
    left = _without_moved(light, cover, far, around.moved)
    # where points tell of no thing that looks like sky, what seems to move may be the sky itself, hidden by one thing and another in other frames, or
    # clouds that go on
    taken = far & ~left
    count, names = cv2.connectedComponents(taken.astype(np.uint8), connectivity=8)
    of_things = np.zeros(count, bool)
    of_things[names[(hulls > 0) | (near > 0)]] = True
    if alike.any():
        of_things |= np.bincount(names[points[:, 1], points[:, 0]], minlength=count) > STRAY
    return _soft(left | _as_beyond(light, taken & ~of_things[names], left))


def clouds_among(light: np.ndarray, sky: np.ndarray, around: Around) -> np.ndarray:
    """(h, w) float32, 1 for what the sky (h, w) 0..1 goes on in without an edge, as in the colours of a dark cloud that no key was told of: patches of
    other colours over the horizon in which hardly any solved point is near, and that do not reach down to it. light: (h, w, 3) linear light of Rec.709."""
    h, w = sky.shape
    left = (sky < 0.5) & ~around.below
    inside = around.pixels[((around.pixels >= 0) & (around.pixels <= np.array([w, h]) - 1)).all(1)].round().astype(int)
    if len(inside) < MANY_NEAR or not left.any():
        return np.zeros((h, w), np.float32)
    wide = lambda mask, share: cv2.dilate(mask.astype(np.uint8), np.ones((2 * max(round(share * w), 1) + 1,) * 2, np.uint8)) > 0
    count, names = cv2.connectedComponents(left.astype(np.uint8), connectivity=8)
    things = np.bincount(names[inside[:, 1], inside[:, 0]], minlength=count) > STRAY
    things[names[wide(around.below, RIM)]] = True
    found = _as_beyond(light, left & ~things[names], sky > SURE)
    # where the key fades out towards them it is sky, too
    return _soft(wide(found, WIDE) & (found | (sky >= 0.5))) if found.any() else found.astype(np.float32)


def unsteady(now: np.ndarray, before: tuple[np.ndarray, np.ndarray], after: tuple[np.ndarray, np.ndarray]) -> np.ndarray:
    """(h, w) bool: what of a small picture (h, w, 3) uint8 of codes is not infinitely far away: in a frame well before it and in one well after it
    something else is to be seen in its direction. What is far is hidden in one of them at most, by the edge of something near that passes it.

    before, after: each a picture of another frame, and where (h, w, 2) px of it what is infinitely far away lies in this one.
    """
    sides, one = [], np.ones((3, 3), np.uint8)
    for picture, where in (before, after):
        x, y = cv2.split(where)
        there = cv2.remap(picture, x, y, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
        # 8-bit numbers end at 0 here, which is just what is asked for
        off = cv2.max(cv2.subtract(now, cv2.dilate(there, one)), cv2.subtract(cv2.erode(there, one), now))
        red, green, blue = cv2.split(off)
        off = cv2.blur(cv2.max(cv2.max(red, green), blue), (3, 3))
        outside = (x < 0) | (y < 0) | (x > picture.shape[1] - 1) | (y > picture.shape[0] - 1)
        off[cv2.dilate(outside.astype(np.uint8), np.ones((5, 5), np.uint8)) > 0] = 0
        sides.append(off)
    found = cv2.morphologyEx((np.minimum(*sides) > UNSTEADY).astype(np.uint8), cv2.MORPH_OPEN, np.ones((WHOLE_PX, WHOLE_PX), np.uint8))
    return cv2.erode(found, np.ones((SURELY_PX, SURELY_PX), np.uint8)) > 0


def _without_moved(light: np.ndarray, cover: np.ndarray, far: np.ndarray, moved: np.ndarray) -> np.ndarray:
    """(h, w) bool: what is far (h, w) without what `moved`, up to the edge round it."""
    h, w = cover.shape
    square = lambda px: np.ones((2 * max(round(px / 2), 1) + 1,) * 2, np.uint8)
    known = cv2.morphologyEx(moved.astype(np.uint8), cv2.MORPH_CLOSE, square(BETWEEN * moved.shape[1]))
    near = (cv2.resize(known, (w, h), interpolation=cv2.INTER_NEAREST) > 0) & (cover > SURE)
    if not (near & far).any():
        return far
    wide = cv2.dilate(near.astype(np.uint8), square(2 * ROUND * w)) > 0
    seeds = np.zeros((h, w), np.int32)
    seeds[~far | near] = NEAR
    seeds[far & ~wide] = FAR
    return far & (_parted(light, seeds) > 0)


def _as_beyond(light: np.ndarray, taken: np.ndarray, far: np.ndarray) -> np.ndarray:
    """(h, w) bool: patches of what was `taken` from what is far (h, w) that no more differ from it, next to their common border, than the sky does by itself;
    and those that have none. A thing ends in another colour."""
    _, names, facts, _ = cv2.connectedComponentsWithStats(taken.astype(np.uint8), connectivity=8)
    found = np.zeros(taken.shape, bool)
    reach = max(round(BESIDE * taken.shape[1]), 2)
    one, wide = np.ones((3, 3), np.uint8), np.ones((2 * reach + 1,) * 2, np.uint8)
    for number, (x, y, across, high, _) in list(enumerate(facts.tolist()))[1:]:
        part = slice(max(y - reach - 1, 0), y + high + reach + 1), slice(max(x - reach - 1, 0), x + across + reach + 1)
        patch, beyond = names[part] == number, far[part]
        zone = cv2.dilate(((cv2.dilate(patch.astype(np.uint8), one) > 0) & beyond).astype(np.uint8), wide) > 0
        root = lambda where, part=part: np.sqrt(np.maximum(np.median(light[part][where], 0), 0))
        if not zone.any() or np.abs(root(zone & patch) - root(zone & beyond)).max() < DIFFERS:
            found[part] |= patch
    return found


def _flooded(light: np.ndarray, cover: np.ndarray, known: tuple[np.ndarray, np.ndarray, np.ndarray], scale: float) -> np.ndarray:
    """(h, w) uint8: what is nearer to sure sky than to what is near, over the edges of the picture between them. known: places of near points and the hulls of
    their things, uint8, and what is below the horizon; scale: as of `Around`."""
    near, hulls, below = known
    away = cv2.distanceTransform(((cover > SURE) & (hulls == 0) & (near == 0) & ~below).astype(np.uint8), cv2.DIST_L2, 5)
    seeds = np.zeros(cover.shape, np.int32)
    side = 2 * max(round(SEED_PX * scale), 1) + 1
    seeds[(cover < UNLIKE) | below | (cv2.dilate(near, np.ones((side, side), np.uint8)) > 0)] = NEAR
    seeds[away > CLEAR_OF * cover.shape[1]] = FAR
    if not (seeds == NEAR).any() or not (seeds == FAR).any():
        return np.ones(cover.shape, np.uint8)
    return _parted(light, seeds)


def _parted(light: np.ndarray, seeds: np.ndarray) -> np.ndarray:
    """(h, w) uint8: what belongs to the seeds FAR rather than to those NEAR, (h, w) int32, with the edges of the picture between them."""
    codes = (np.sqrt(np.clip(light, 0, 1)) * 255).astype(np.uint8)  # about as even to the eye as code values, and quicker
    # by noise alone the border would run elsewhere in each frame, where haze goes over into sky
    even = cv2.medianBlur(np.ascontiguousarray(codes), 5)
    cv2.watershed(np.where(cv2.absdiff(codes, even).max(-1, keepdims=True) <= NOISE, even, codes), seeds)
    # the border itself, one px wide, belongs to both
    return cv2.dilate((seeds == FAR).astype(np.uint8), np.ones((3, 3), np.uint8))


def _without_specks(held: np.ndarray, least: float) -> np.ndarray:
    """(h, w) uint8: what is held (h, w) bool and the holes in it that are smaller than `least` px both ways: by them a thing has no rim."""
    _, names, facts, _ = cv2.connectedComponentsWithStats((~held).astype(np.uint8), connectivity=8)
    speck = facts[:, cv2.CC_STAT_WIDTH : cv2.CC_STAT_HEIGHT + 1].max(1) < least
    speck[0] = True
    return np.asarray(speck[names], np.uint8)


def _soft(far: np.ndarray) -> np.ndarray:
    return np.asarray(cv2.GaussianBlur(far.astype(np.float32), (0, 0), EDGE_PX))


def _things(points: np.ndarray, depths: np.ndarray, reach: float) -> np.ndarray:
    """(n,) numbers of the things that points (n, 2) are of: those that are near to each other and about as deep."""
    if len(points) < 2:
        return np.zeros(len(points), int)
    a, b = cKDTree(points).query_pairs(reach, output_type="ndarray").T
    alike = np.abs(depths[a] - depths[b]) < AS_DEEP * np.minimum(depths[a], depths[b])
    linked = coo_array((np.ones(int(alike.sum())), (a[alike], b[alike])), (len(points), len(points)))
    return np.asarray(connected_components(linked, directed=False)[1])
