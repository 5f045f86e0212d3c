"""Where in the picture something moves by itself: told by the tracks that no standing point explains, and by how the picture flows."""

from collections.abc import Mapping

import cv2
import numpy as np
from scipy.ndimage import map_coordinates
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components
from scipy.spatial import ConvexHull, cKDTree

from ..basics.geometry import length, summed
from .edit import lengths
from .follow import reduced
from .tracks import Tracks

CORNERS = 12
EVERY = 4  # frames between two drawn ones
LEAST_TRACKS, LEAST_FRAMES = 4, 8
STANDS_PX, STANDS_NOISES = 1.5, 4.0  # rms up to which a track may stand, at 1280 pixels across and in noises
MOVING_SHARE = 0.6  # of the tracks in a region
TOUCH_PX, MARGIN_PX = 90.0, 26.0
FLOW_GAP = 2  # frames over which the picture's flow is judged
FLOW_ACROSS = 640  # pixels to which its longer side is reduced for that
GRID_PX, GRID_TOUCH_PX, LEAST_PLACES = 16.0, 36.0, 8
BESIDE_PX = 50.0
FLOW_PX, BACK_PX = 2.0, 1.5  # by which flow has to miss every standing place, and may miss its beginning on the way back
TEXTURE, TEXTURE_NOISES = 10.0, 3.0  # least edge strength (8 bit, Sobel's), also in what noise alone makes


def grid(width: int, height: int) -> np.ndarray:
    """(n, 2) px of the places at which flow is judged."""
    step = GRID_PX * width / 1280
    return np.stack(np.meshgrid(np.arange(step / 2, width, step), np.arange(step / 2, height, step)), -1).reshape(-1, 2)


def moving_places(before: np.ndarray, after: np.ndarray, standing: np.ndarray) -> np.ndarray:
    """(m, 2) px of places of the grid in `before` that flow to where nothing that stands could be in `after`; both (h, w) uint8.

    standing (n, k, 2) px: for each place of the grid, the line in `after` on which it lies if it stands, from infinitely far to as near
    as anything may be. What a picture is smooth by gives flow no hold: a patch needs edges somewhere.

    Source: T. Kroeger et al., Fast Optical Flow using Dense Inverse Search, ECCV 2016 (OpenCV's).
    """
    height, width = before.shape
    small = [reduced(p, FLOW_ACROSS) for p in (before, after)]
    scale, reduce = width / 1280, width / small[0].shape[1]
    flow = cv2.DISOpticalFlow.create(cv2.DISOPTICAL_FLOW_PRESET_MEDIUM)
    there, back = (flow.calc(a, b, None) for a, b in (small, small[::-1]))  # type: ignore[call-overload]
    xy = grid(width, height)
    moved = reduce * _at(there, xy, reduce)
    end = xy + moved
    miss = _off_line(end, standing)
    held = np.linalg.norm(moved + reduce * _at(back, end, reduce), axis=1) < BACK_PX * scale
    inside = (end > GRID_PX * scale / 2).all(1) & (end < np.array([width, height]) - GRID_PX * scale / 2).all(1)
    edges = cv2.magnitude(cv2.Sobel(small[0], cv2.CV_32F, 1, 0), cv2.Sobel(small[0], cv2.CV_32F, 0, 1))
    # noise makes Sobel's two differences vary by sqrt(12) each, and their length by sqrt(pi / 2) of that in the mean
    least = max(TEXTURE, TEXTURE_NOISES * np.sqrt(12 * np.pi / 2) * _noise(small[0], small[1], there))
    texture = _at(cv2.blur(edges, (25, 25))[..., None], xy, reduce)[:, 0]
    moves = np.flatnonzero(held & inside & (miss > FLOW_PX * scale))
    patches = [g for g in _groups(xy[moves], GRID_TOUCH_PX * scale) if len(g) >= LEAST_PLACES and np.percentile(texture[moves[g]], 75) > least]
    if not patches:
        return np.zeros((0, 2))
    sure = xy[moves[np.concatenate(patches)]]
    # a swinging leg, and what comes out from behind someone, has no way back: it belongs to what moves close by
    lost = xy[inside & ~held]
    return np.concatenate([sure, lost[cKDTree(sure).query(lost)[0] < BESIDE_PX * scale]])


def _at(field: np.ndarray, xy: np.ndarray, reduce: float) -> np.ndarray:
    """(n, c) of a field (h, w, c) over a picture reduced by a factor, at pixels (n, 2) of the whole one."""
    q = ((xy + 0.5) / reduce - 0.5)[:, ::-1].T
    return np.stack([map_coordinates(field[..., c], q, order=1, mode="nearest") for c in range(field.shape[2])], 1)


def _off_line(xy: np.ndarray, line: np.ndarray) -> np.ndarray:
    """(n,) distance of points (n, 2) to lines (n, k, 2) of k - 1 straight parts each."""
    begin, way = line[:, :-1], np.diff(line, axis=1)
    off = xy[:, None] - begin
    share = np.clip(summed(off * way) / np.maximum(summed(way * way), 1e-9), 0, 1)
    return length(off - share[..., None] * way).min(1)


def _noise(before: np.ndarray, after: np.ndarray, flow: np.ndarray) -> float:
    """Deviation of the noise, by what is left between two pictures when the one is laid over the other by its flow (h, w, 2)."""
    x, y = np.meshgrid(np.arange(flow.shape[1], dtype=np.float32), np.arange(flow.shape[0], dtype=np.float32))
    laid = cv2.remap(after.astype(np.float32), x + flow[..., 0], y + flow[..., 1], cv2.INTER_LINEAR)
    # a quarter of what is normally distributed lies within 0.3186 deviations; the rest may be texture that is laid badly
    return float(np.percentile(np.abs(before - laid), 25) / (0.3186 * np.sqrt(2)))


def moving_tracks(tracks: Tracks, error: np.ndarray, width: int) -> np.ndarray:
    """(count,) bool: tracks that do not stand. error (n,): px by which each observation misses where its track stands; nan unknown."""
    known = np.isfinite(error)
    if not known.any():
        return np.zeros(tracks.count, bool)
    square = np.bincount(tracks.track[known], error[known] ** 2, minlength=tracks.count)
    count = np.bincount(tracks.track[known], minlength=tracks.count)
    # the lower quarter belongs to what stands; of a Rayleigh distribution it lies at 0.759 sigma
    most = max(STANDS_PX * width / 1280, STANDS_NOISES * float(np.percentile(error[known], 25)) / 0.759)
    return (lengths(tracks) >= LEAST_FRAMES) & ~tracks.rejected & (square > most**2 * np.maximum(count, 1))


def moving_regions(
    tracks: Tracks, error: np.ndarray, width: int, height: int, places: Mapping[int, np.ndarray] | None = None
) -> list[dict[int, np.ndarray]]:
    """Regions round what moves by itself, the longest first: for each, frame -> corners (12, 2) px, which belong together over time.

    error: as in `moving_tracks`. places: frame -> what `moving_places` found there. Tracks that move and places lie in one region where they
    are near one another; so do those of the frame before that share tracks, or else are nearest.
    """
    scale = width / 1280
    moves = moving_tracks(tracks, error, width)
    stand = ~moves & ~tracks.rejected & (lengths(tracks) >= LEAST_FRAMES)
    open_: list[tuple[dict[int, np.ndarray], set[int], np.ndarray]] = []
    done: list[dict[int, np.ndarray]] = []
    for frame in np.unique(tracks.frame)[::EVERY]:
        rows = tracks.at(frame)
        stands = tracks.xy[rows[stand[tracks.track[rows]]]]
        rows = rows[moves[tracks.track[rows]]]
        flowing = np.zeros((0, 2)) if places is None else places.get(int(frame), np.zeros((0, 2)))
        xy = np.concatenate([tracks.xy[rows], flowing])
        found: list[tuple[set[int], np.ndarray]] = []
        for group in _groups(xy, GRID_TOUCH_PX * scale, len(rows), TOUCH_PX * scale):
            own = group[group < len(rows)]
            flows = len(group) - len(own) >= LEAST_PLACES
            line = _outline(xy[group], MARGIN_PX * scale, width, height)
            if flows or (len(own) >= LEAST_TRACKS and len(own) > MOVING_SHARE * (len(own) + _inside(stands, line).sum())):
                found.append((set(tracks.track[rows[own]].tolist()), line))
        still = []
        for region, names, middle in open_:
            far = [0.0 if shared & names else float(np.linalg.norm(line.mean(0) - middle)) for shared, line in found]
            if not far or min(far) > 1.5 * TOUCH_PX * scale:
                done.append(region)
                continue
            shared, line = found.pop(int(np.argmin(far)))
            region[int(frame)] = line
            still.append((region, shared, line.mean(0)))
        open_ = still + [({int(frame): line}, shared, line.mean(0)) for shared, line in found]
    done += [region for region, _, _ in open_]
    return sorted((r for r in done if len(r) >= 3), key=len, reverse=True)


def _groups(xy: np.ndarray, close: float, count: int = 0, touch: float = 0.0) -> list[np.ndarray]:
    """Numbers of the points that hang together: within `close`, or within `touch` of one of the first `count`."""
    if len(xy) == 0:
        return []
    pairs = cKDTree(xy).query_pairs(max(close, touch), output_type="ndarray")
    pairs = pairs[(np.linalg.norm(xy[pairs[:, 0]] - xy[pairs[:, 1]], axis=1) <= close) | (pairs.min(1) < count)]
    links = coo_matrix((np.ones(len(pairs)), (pairs[:, 0], pairs[:, 1])), (len(xy),) * 2)
    label = connected_components(links, directed=False)[1]
    order = np.argsort(label, kind="stable")
    return np.split(order, np.flatnonzero(np.diff(label[order])) + 1)


def _inside(xy: np.ndarray, line: np.ndarray) -> np.ndarray:
    """(n,) bool: which points (n, 2) lie inside a convex closed line (m, 2), its corners in the order of their angles."""
    way, off = np.roll(line, -1, axis=0) - line, xy[:, None] - line
    return (way[:, 0] * off[..., 1] - way[:, 1] * off[..., 0] >= 0).all(1)


def _outline(xy: np.ndarray, margin: float, width: int, height: int) -> np.ndarray:
    """(12, 2) corners of the convex line round points, and a margin: on rays from the middle of what they span, at angles that are even
    where that is made square, so that a corner stays on the same part of what moves and the four outermost are kept."""
    low, high = xy.min(0) - margin, xy.max(0) + margin
    middle, half = (low + high) / 2, (high - low) / 2
    angle = 2 * np.pi * (np.arange(CORNERS) + 0.5) / CORNERS
    way = np.stack([np.cos(angle), np.sin(angle)], 1)
    # a square of the margin's size round each point, so that few or one of them make a shape too
    square = np.array([[-1, -1], [1, -1], [1, 1], [-1, 1]]) * margin
    round_all = (xy[:, None] + square).reshape(-1, 2)
    sides = ConvexHull((round_all - middle) / half).equations  # outward normal and minus its distance, of each side
    reach = np.min(-sides[:, 2] / np.maximum(way @ sides[:, :2].T, 1e-9), axis=1)
    return np.clip(middle + reach[:, None] * way * half, [-margin, -margin], [width + margin, height + margin])
