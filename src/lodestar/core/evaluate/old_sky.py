"""The plate's own sky: where it is told by its colours, how far down it goes, how bright it is and how hazy the place is under it."""

from collections.abc import Sequence
from typing import NamedTuple

import cv2
import msgspec
import numpy as np

from ..basics.errors import UserError
from ..basics.geometry import F64
from ..basics.keyed import constant
from ..light.surroundings import BRIGHTNESS
from ..matte.far import MANY_NEAR
from ..matte.key import LIGHTNESS_SHARE, MOST_SAMPLES, Keyer, keyed_cover, oklab
from ..shot.document import Shot
from .cameras import camera_at, scene_frame
from .far import around_at

Rgb = tuple[float, float, float]


CLUSTERS, LEAST_SHARE = 6, 0.04  # colours that are looked for, and the share of the sky that one must have
AS_BRIGHT = 0.22  # of Oklab's lightness: what is darker than most of the sky by more is a tree or a roof
APART, CLEAR_SHARE = 0.03, 0.9  # of the width, from a near point; of what is looked at, that lies clear of things
ALIKE = 0.02  # of Oklab's distance: a sample so near to another tells nothing more
HELD, NEARLY_NONE = 0.03, 0.02  # of Oklab's distance, within which a sample holds a colour; share of the sky that none may hold
TOP = 0.35  # of what lies over the horizon, or of the picture: the upper part, where sky is most likely
EVEN = 0.006  # of Oklab a px of a small picture: what changes by more is an edge
SPECKS_PX = 10.0
WELL_UNDER, OF_GROUND = 2.0, 0.25  # degrees under the horizon; so much of the ground looks like a colour that is none of the sky's
COLUMN_PX, EDGE_PX = 8, 4  # of a picture, of which every so many columns are looked at; half an edge between sky and ground
HALF, SURE, MOSTLY = 0.5, 0.9, 0.7  # of a px; of the columns that must end at an edge
LEAST_COLUMNS = 0.02  # of all: in fewer there is hardly any sky under the horizon
LOWEST, MARGIN_DEG = 10.0, 0.3  # degrees under the horizon: so far ground may fall away; below the lowest sky that was seen, as others may show more
BIN_DEG, NEAR_DEG = 0.1, 1.5  # degrees of height, over which lightness is compared, and so near to the horizon an edge may be one of water
# over the lowest of the sky's edge: ground that it ends at there is the farthest; so much haze is hardly told from fog
FAR_DEG, NEARLY_ALL = 2.0, 0.9
STEP, STEP_LEAST = 3.0, 0.01  # times the greatest change elsewhere, and Oklab's lightness: so much is an edge


class OldSky(NamedTuple):
    """What was found of the plate's sky: the key that tells it, the height at which it ends, degrees; luminance, white 1, 0 where it is not known; and, where
    it ends at ground, the colour of the farthest (linear light) with how much of that is haze, 0 to 1."""

    key: Keyer
    ends: float = 0.0
    luminance: float = 0.0
    far: tuple[Rgb, float] | None = None


class _Small(NamedTuple):
    """A frame as a small picture, (h, w) all: its linear light and Oklab; degrees over the horizon (0 where that is not known); what is looked at first, high
    up; what goes on evenly; and `free`, what lies clear of things, as near points tell, where all that is high up is that and even. ground (n, 3): light
    at points well under the horizon."""

    light: np.ndarray
    lab: np.ndarray
    up: np.ndarray
    high: np.ndarray
    even: np.ndarray
    free: np.ndarray
    ground: np.ndarray


def sky_key(shot: Shot, light: np.ndarray, frame: int) -> Keyer:
    """A key of the plate's own sky, by its usual colours. light: (h, w, 3) linear light of Rec.709 of a frame.

    Where the camera is solved, it leaves out what is near and what is under the horizon. The colours are those of what lies high over the horizon of
    the solved camera, and of what goes on evenly from there down to it: most skies are paler there. Raises UserError where nothing
    of the picture lies over it.
    """
    return Keyer(id="", name="Sky", samples=_samples(_small(shot, light, frame)), hides=False, specks=constant(SPECKS_PX), far=shot.solve is not None)


def with_sky_of(key: Keyer, shot: Shot, light: np.ndarray, frame: int) -> Keyer:
    """A key of the sky that holds what another frame shows of it too, where nothing but sky is high up there. light: as in `sky_key`."""
    try:
        small = _small(shot, light, frame)
    except UserError:  # it shows no sky
        return key
    return msgspec.structs.replace(key, samples=_told_by_both(key.samples, _samples(small))) if small.free.any() else key


def _small(shot: Shot, light: np.ndarray, frame: int) -> _Small:
    """Raises UserError where nothing lies over the horizon."""
    height, width = light.shape[:2]
    solved = shot.solve is not None and frame in shot.solve.frames
    size = max(width // max(width // 320, 1), 1), max(height // max(height // 180, 1), 1)
    small = cv2.resize(np.ascontiguousarray(light), size, interpolation=cv2.INTER_AREA)
    if solved:
        up = _heights(shot, frame, (height, width), size)
        high = (up > 0) & (up >= float(up.max()) * (1 - TOP))
    else:
        up = np.zeros(small.shape[:2])
        high = np.repeat((np.arange(size[1]) < TOP * size[1])[:, None], size[0], 1)
    if not high.any():
        raise UserError("Nothing in this frame lies over the horizon, so no sky was found.", "Go to a frame that shows it, or key a colour by hand.")
    lab = oklab(small.astype(float)).astype(np.float32)
    ground = _ground(shot, light, frame) if solved else np.zeros((0, 3), np.float32)
    even, free = _even(lab), _without_things(shot, frame, (height, width), size)
    free &= bool((free & even)[high].mean() > CLEAR_SHARE)
    return _Small(small, lab, up, high, even, free, ground)


def _samples(small: _Small) -> tuple[Rgb, ...]:
    samples, sky = _usual(small, small.high)
    if not small.up.any():
        return samples
    more, on = _usual(small, sky | _evenly_on(small.even & (small.up > 0), sky))
    return _all_of(_told_by_both(more, samples), small, (on | sky) & small.free) if small.free.any() else more


def _told_by_both(samples: Sequence[Rgb], more: Sequence[Rgb]) -> tuple[Rgb, ...]:
    """Samples of a key (linear light), and of others those that are unlike all of them, as many as a key holds."""
    kept = list(samples)
    for one in more:
        away = np.linalg.norm(oklab(np.array(kept)) - oklab(np.array([one])), axis=1).min() if kept else np.inf
        if away > ALIKE and len(kept) < MOST_SAMPLES:
            kept.append(one)
    return tuple(kept)


def _all_of(samples: tuple[Rgb, ...], small: _Small, sky: np.ndarray) -> tuple[Rgb, ...]:
    """Samples, and more of them until a key of them all holds nearly all of the sky (h, w) bool, as clouds go from light to dark by all that lies between."""
    apart = np.array([LIGHTNESS_SHARE, 1, 1], np.float32)
    seen, colours = small.lab[sky] * apart, small.light[sky]
    while len(samples) < MOST_SAMPLES and len(seen):
        left = np.min([np.linalg.norm(seen - apart * oklab(np.array([one])), axis=1) for one in samples], axis=0) > HELD
        if left.mean() < NEARLY_NONE:
            break
        _, which, count = np.unique((seen[left] / HELD).astype(int), axis=0, return_inverse=True, return_counts=True)
        r, g, b = colours[left][which.ravel() == count.argmax()].astype(float).mean(0).round(5)
        samples = (*samples, (float(r), float(g), float(b)))
    return samples


def _heights(shot: Shot, frame: int, whole: tuple[int, int], size: tuple[int, int]) -> F64:
    """(h, w) degrees over the horizon of a frame's px, for a picture of `size` (w, h) of the `whole` (h, w)."""
    y, x = np.mgrid[0 : size[1], 0 : size[0]].astype(float)
    at = np.stack([(x + 0.5) * whole[1] / size[0] - 0.5, (y + 0.5) * whole[0] / size[1] - 0.5], -1)
    return np.asarray(np.rad2deg(np.arcsin(np.clip(camera_at(shot, frame).rays(at)[..., 2], -1, 1))))


def _ground(shot: Shot, light: np.ndarray, frame: int) -> np.ndarray:
    """(n, 3) light of the picture at solved points that lie well under the horizon: they are no sky, and, unlike water, do not mirror it."""
    assert shot.solve is not None
    camera, (height, width) = camera_at(shot, frame), light.shape[:2]
    pixels, depths = camera.project(scene_frame(shot).points(shot.solve.xyz))
    inside = (depths > 0) & (pixels > 1).all(1) & (pixels < np.array([width, height]) - 2).all(1)
    pixels = pixels[inside]
    x, y = np.round(pixels[camera.rays(pixels)[..., 2] < -np.sin(np.deg2rad(WELL_UNDER))]).astype(int).T
    return np.asarray(light[y, x])


def _without_things(shot: Shot, frame: int, whole: tuple[int, int], size: tuple[int, int]) -> np.ndarray:
    """(h, w) bool, of a picture of `size` (w, h) of the `whole` (h, w): where no solved point is near, of a shot with many near ones; none else."""
    around = around_at(shot, frame, size[0], size[1], size[0] / whole[1])
    free = np.zeros(size[::-1], np.uint8)
    if around is None or len(around.pixels) < MANY_NEAR:
        return free > 0
    free[:] = 1
    for x, y in around.pixels[(np.abs(around.pixels) < 2 * size[0]).all(1)].round().astype(int).tolist():
        cv2.circle(free, (x, y), round(APART * size[0]), 0, -1)
    return free > 0


def _usual(small: _Small, inside: np.ndarray) -> tuple[tuple[Rgb, ...], np.ndarray]:
    """The usual colours of what is `inside` (h, w), as linear light, and (h, w) bool where they are; without what is much darker than most of it, and
    without what much of the ground looks like: a wall, or hills; but for what is free of things: dark clouds. They are the means of a few clusters
    (k-means)."""
    ground = small.ground
    seen, colours = small.lab[inside], small.light[inside]
    cv2.setRNGSeed(1)
    criteria = (cv2.TERM_CRITERIA_EPS + cv2.TERM_CRITERIA_MAX_ITER, 30, 1e-4)
    _, which, _ = cv2.kmeans(seen, min(CLUSTERS, len(seen)), None, criteria, 2, cv2.KMEANS_PP_CENTERS)  # type: ignore[call-overload]
    number = which.ravel()
    shares = np.bincount(number, minlength=CLUSTERS) / len(number)
    brightness = np.array([seen[number == k, 0].mean() if shares[k] > 0 else -np.inf for k in range(len(shares))])
    clouds = {k for k in range(len(shares)) if shares[k] >= LEAST_SHARE and small.free[inside][number == k].mean() > CLEAR_SHARE}
    bright = lambda k: brightness[k] > brightness[int(shares.argmax())] - AS_BRIGHT
    kept = [k for k in range(len(shares)) if shares[k] >= LEAST_SHARE and (bright(k) or k in clouds)]
    means = {k: tuple(round(float(v), 5) for v in colours[number == k].astype(float).mean(0)) for k in kept}
    like = lambda k: keyed_cover(Keyer(id="", name="", samples=(means[k],)), ground[None], 0).mean() if len(ground) else 0.0  # type: ignore[arg-type]
    kept = [k for k in kept if k in clouds or like(k) < OF_GROUND] or kept
    there = np.zeros(inside.shape, bool)
    there[inside] = np.isin(number, kept)
    return tuple(means[k] for k in kept), there  # type: ignore[misc]


def _even(lab: np.ndarray) -> np.ndarray:
    """(h, w) bool: where a small picture in Oklab (h, w, 3) has no edge."""
    change = np.zeros(lab.shape[:2], np.float32)
    for c in range(3):
        channel = np.ascontiguousarray(lab[..., c])
        change = np.maximum(change, np.maximum(np.abs(cv2.Sobel(channel, cv2.CV_32F, 1, 0)), np.abs(cv2.Sobel(channel, cv2.CV_32F, 0, 1))) / 8)
    return np.asarray(change < EVEN)


def _evenly_on(even: np.ndarray, sky: np.ndarray) -> np.ndarray:
    """(h, w) bool: what is even (h, w) and hangs together with what of the sky (h, w) is."""
    _, names = cv2.connectedComponents(even.astype(np.uint8), connectivity=4)
    return np.isin(names, np.unique(names[sky & (names > 0)]))


def lowest_sky(shot: Shot, light: np.ndarray, frame: int, key: Keyer) -> float:
    """Height in degrees at which the plate's sky ends, 0 or less: what its key takes from the horizon of the solve downward is sky as long as it
    goes on unchanged across it and ends at an edge within LOWEST degrees. Water under a sky does neither. light: as in `sky_key`.
    """
    if shot.solve is None or frame not in shot.solve.frames:
        return 0.0
    height, width = light.shape[:2]
    cover = keyed_cover(key, np.ascontiguousarray(light), frame)[:, ::COLUMN_PX]
    y = np.arange(height)[:, None]
    up = _heights(shot, frame, (height, width), (cover.shape[1], height))
    # from the horizon down in each column, to the first px that is no sky
    starts = height - np.argmax((up > 0)[::-1], axis=0)
    run = np.cumsum((cover < HALF) & (y >= starts), axis=0) == 0
    ends = np.where(run.all(0), height, np.argmin(run, axis=0))
    columns = np.flatnonzero((up[0] > 0) & (ends - starts > EDGE_PX) & (starts > EDGE_PX))
    if len(columns) < LEAST_COLUMNS * len(cover[0]):
        return 0.0
    open_, sharp, depths = 0, 0, []
    for c in columns:
        end = ends[c]
        depth = -up[min(end, height - 1), c]
        open_ += depth > LOWEST or end > height - 1 - EDGE_PX
        sharp += end < height - EDGE_PX and cover[end - EDGE_PX, c] > SURE and cover[end + EDGE_PX, c] < 1 - SURE
        depths.append(depth)
    if (
        open_
        or sharp < MOSTLY * len(columns)
        or _edge_at_horizon(oklab(light[:, ::COLUMN_PX])[..., 0], up, run & (cover > SURE) & (y < ends - EDGE_PX), columns)
    ):
        return 0.0
    return -round(float(max(depths)) + MARGIN_DEG, 1)


def _edge_at_horizon(lightness: np.ndarray, up: np.ndarray, run: np.ndarray, columns: np.ndarray) -> bool:
    """Whether the lightness of what runs on past the horizon changes there as it does nowhere over it, as from sky to water."""
    step = (np.floor(up[:, columns] / BIN_DEG)).astype(int)
    kept = run[:, columns] & (up[:, columns] < 3 * NEAR_DEG)
    if not kept.any():
        return False
    least = step[kept].min()
    count = np.bincount(step[kept] - least)
    mean = np.bincount(step[kept] - least, lightness[:, columns][kept]) / np.maximum(count, 1)
    change = np.abs(mean[2:] - mean[:-2])
    change[np.minimum(count[2:], count[:-2]) < len(columns) / 2] = 0
    height = (np.arange(len(change)) + 1 + least) * BIN_DEG
    near = np.abs(height) < NEAR_DEG
    return bool(near.any() and (~near).any() and change[near].max() > STEP * change[~near & (height > 0)].max(initial=0) + STEP_LEAST)


def far_ground(shot: Shot, light: np.ndarray, frame: int, key: Keyer, lowest: float) -> tuple[Rgb, float] | None:
    """The usual colour (linear light) of what the sky ends at near the horizon, which is mostly the farthest ground, as haze of it belongs to the
    place; and how much of the way from the ground's own colour to the sky's that is, 0 to 1. None where the sky ends nowhere.

    Light is lost in haze, and the sky's comes in its place, by one share. Source: H. Koschmieder, Theorie der horizontalen Sichtweite, 1924.
    light: as in `sky_key`; lowest: as `lowest_sky` tells.
    """
    cover = keyed_cover(key, np.ascontiguousarray(light), frame)[:, ::COLUMN_PX]
    sky, up = cover > SURE, None
    if shot.solve is not None and frame in shot.solve.frames:  # not water that is like it
        up = _heights(shot, frame, light.shape[:2], cover.shape[::-1])
        sky &= up > lowest - MARGIN_DEG
    ends = len(cover) - np.argmax(sky[::-1], axis=0)  # under the lowest of it in each column
    columns = np.flatnonzero(sky.any(0) & (ends < len(cover) - 3 * EDGE_PX))
    if not len(columns):
        return None
    if up is not None:
        heights = up[ends[columns], columns]
        columns = columns[heights < heights.min() + FAR_DEG]
    part = lambda first, last: np.concatenate([light[ends[c] + first : ends[c] + last, c * COLUMN_PX] for c in columns])
    far, over = np.median(part(EDGE_PX, 3 * EDGE_PX), 0), np.median(part(-3 * EDGE_PX, -EDGE_PX), 0)
    points = _ground(shot, light, frame) if up is not None else np.zeros((0, 3))
    near = np.median(points, 0) if len(points) else over
    way = over - near
    haze = float(np.clip((far - near) @ way / max(float(way @ way), 1e-9), 0, NEARLY_ALL)) if len(points) else 0.0
    r, g, b = far.astype(float).round(4)
    return (float(r), float(g), float(b)), haze


def sky_luminance(light: np.ndarray, frame: int, key: Keyer) -> float:
    """Median luminance, white 1, of what a key of the sky is sure of; 0 where it is sure of nothing. light: as in `sky_key`."""
    part = np.ascontiguousarray(light[::EDGE_PX, ::EDGE_PX])
    return median_luminance(part[keyed_cover(key, part, frame) > SURE])


def median_luminance(light: np.ndarray) -> float:
    """Median luminance (ITU-R BT.709) of linear light (..., 3), white 1; 0 where there is none."""
    return float(np.median(light @ BRIGHTNESS)) if len(light) else 0.0
