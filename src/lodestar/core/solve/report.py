"""How well a solve holds: in figures, by time and by place in the picture, and in one sentence with what to do next."""

import msgspec
import numpy as np
from scipy.spatial import cKDTree

from ..track.tracks import Tracks
from .camera import mean_by
from .constants import SOLVER
from .result import Solve
from .views import directions, triangulate

ACROSS, DOWN = 8, 5
WEAK_TRACKS = 12  # a frame with fewer long tracks is weak
LONG_FRAMES = 15
NEAR_PX = 3.0
BEHIND_PX = 100.0
DEPTHS, AROUND, NEARER = 12, 12, 0.5  # steps of inverse depth; points round a place, and how much nearer than them it may be
SLIDES_PX, TOO_MUCH_PX = 0.5, 1.5  # what a title may slide, median and worst, at 1280 pixels across
LITTLE_PX, LITTLE_NOISES = 3.0, 8.0  # parallax under which depths are mostly noise
NOISY_RATIO = 1.5
LEFT_PX = 0.25  # beside the noise, root mean square at 1280 pixels across: half of what a title may slide; less, as of a compressed clip, is not seen
VAGUE_FOCAL = 0.02
LEAST_SHARE = 0.7  # of what was followed; a camera that explains less explains something else, or little (common practice, no source)
WORDS = {"good": "holds", "doubtful": "is doubtful", "bad": "does not hold"}


class Report(msgspec.Struct, frozen=True, eq=False):
    """Errors in px. frame_error, in_view, long_in_view (k,): by solved frame. region_error, region_count, region_lost (5, 8):
    by part of the picture; lost: share of the observations there that do not fit. worst_place: where the error is largest, in words.

    ratio: of the error to the noise of the tracks themselves, of which 1.0 is perfect; 0 when unknown. slip_px, slip_p95_px:
    middle and 95 % over the solved points of what a title there would slide, 0 when unknown. state: 'good', 'doubtful' or 'bad'. verdict:
    one sentence; action: the next best thing to do, empty when good.
    """

    mean_px: float
    median_px: float
    p95_px: float
    frame_error: np.ndarray
    in_view: np.ndarray
    long_in_view: np.ndarray
    region_error: np.ndarray
    region_count: np.ndarray
    region_lost: np.ndarray
    worst_place: str
    inliers: float
    parallax_deg: float
    noise_px: float
    ratio: float
    focal_px: float
    focal_deviation_px: float
    slip_px: float
    slip_p95_px: float
    weak: tuple[tuple[int, int], ...]
    state: str
    verdict: str
    action: str

    @property
    def word(self) -> str:
        """The verdict in a word or two: of the same rule as the state."""
        return WORDS[self.state]

    def tree(self) -> dict:
        """As plain numbers and words, for JSON."""
        return {name: value.round(4).tolist() if isinstance(value, np.ndarray) else value for name, value in msgspec.structs.asdict(self).items()}


def residuals(solve: Solve, tracks: Tracks) -> np.ndarray:
    """(n,) px by which each observation misses where its track stands; nan where no camera is known.

    A track that the solve gave no point is given the one that suits it best now, near or infinitely far: a short track on
    a hill fits somewhere, something that moves by itself does not.
    """
    frame_at = np.full(max(int(tracks.frame.max(initial=0)), int(solve.frames.max(initial=0))) + 1, -1)
    frame_at[solve.frames] = np.arange(len(solve.frames))
    f = frame_at[tracks.frame]
    rows = np.flatnonzero(f >= 0)
    track, f = tracks.track[rows], f[rows]
    straight = solve.undistorted(f, tracks.xy[rows])
    near, place = np.zeros(tracks.count), np.full((tracks.count, 3), np.nan)
    known = solve.point_ids < tracks.count
    place[solve.point_ids[known]], near[solve.point_ids[known]] = solve.xyz[known], 1.0
    own = np.isnan(place[:, 0])
    ray = np.c_[straight, np.ones(len(rows))]
    far = directions(solve.R, f, track, ray / np.linalg.norm(ray, axis=1)[:, None], tracks.count)

    def error(points: np.ndarray, finite: np.ndarray, some: np.ndarray | slice = slice(None)) -> np.ndarray:
        inside = np.einsum("kij,kj->ki", solve.R[f[some]], points[track[some]]) + finite[track[some], None] * solve.t[f[some]]
        return np.where(inside[:, 2] > 0, np.linalg.norm(solve.pixels(f[some], inside) - tracks.xy[rows[some]], axis=1), BEHIND_PX)

    best = error(np.where(own[:, None], far, np.nan_to_num(place)), near)
    mine = np.flatnonzero(own[track])
    if len(mine) and solve.motion == "free":
        found = triangulate(solve.R, solve.centres, f[mine], track[mine], straight[mine], tracks.count, 2.0 / solve.lens.fx)
        near_by = np.where(np.isfinite(found[track[mine], 0]), error(np.nan_to_num(found), np.ones(tracks.count), mine), BEHIND_PX)
        total = [np.bincount(track[mine], np.minimum(e, BEHIND_PX) ** 2, minlength=tracks.count) for e in (best[mine], near_by)]
        best[mine] = np.where((total[1] < total[0])[track[mine]], near_by, best[mine])
    result = np.full(len(tracks.frame), np.nan)
    result[rows] = best
    return result


def standing(solve: Solve, a: int, b: int, xy: np.ndarray) -> np.ndarray:
    """(n, k, 2) px: where pixels (n, 2) of `frames[a]` lie in `frames[b]` if what they show stands, from infinitely far to half as far as the
    nearest of the points round them. With a camera that only turns both ends are one place.

    Source: the epipolar line, Hartley & Zisserman, Multiple View Geometry, 2nd ed., 9.2.
    """
    way = np.c_[solve.undistorted(np.full(len(xy), a), xy), np.ones(len(xy))] @ solve.R[a]
    share = np.linspace(0, 1, DEPTHS if solve.motion == "free" else 2)[None, :, None]  # of the nearest one's inverse depth
    nearest = np.zeros((len(xy), 1, 1))
    if solve.motion == "free":
        inside = (solve.xyz - solve.centres[a]) @ solve.R[a].T
        seen = solve.pixels(np.full(len(inside), a), inside)
        in_view = (inside[:, 2] > 0) & (seen >= 0).all(1) & (seen < [solve.width, solve.height]).all(1)
        if in_view.any():
            around = cKDTree(seen[in_view]).query(xy, min(AROUND, int(in_view.sum())))[1].reshape(len(xy), -1)
            nearest = (1 / (NEARER * inside[in_view, 2][around].min(1)))[:, None, None]
    # along each ray, the point at depth z seen from the other camera, times 1 / z: finite at infinity, too
    other = (way[:, None] + share * nearest * (solve.centres[a] - solve.centres[b])) @ solve.R[b].T
    return solve.pixels(np.full(other.shape[0] * other.shape[1], b), other.reshape(-1, 3)).reshape(*other.shape[:2], 2)


def report(solve: Solve, tracks: Tracks, error: np.ndarray | None = None) -> Report:
    """The report on a solve of these tracks. error: their residuals, if they are known already."""
    error, every = residuals(solve, tracks) if error is None else error, tracks.kept()
    kept = every & np.isfinite(error)
    fits = kept & (error < NEAR_PX)
    column = np.clip(tracks.xy[:, 0] * ACROSS / solve.width, 0, ACROSS - 1).astype(int)
    cell = np.clip(tracks.xy[:, 1] * DOWN / solve.height, 0, DOWN - 1).astype(int) * ACROSS + column
    count, all_there = np.bincount(cell[fits], minlength=ACROSS * DOWN), np.bincount(cell[kept], minlength=ACROSS * DOWN)
    region_error = mean_by(cell[fits], error[fits], ACROSS * DOWN).reshape(DOWN, ACROSS)
    long = np.bincount(tracks.track, minlength=tracks.count)[tracks.track] >= min(LONG_FRAMES, len(solve.frames) // 2)
    size = int(max(solve.frames.max(initial=0), tracks.frame.max(initial=0))) + 1
    in_view = np.bincount(tracks.frame[kept], minlength=size)
    # by the whole span that tracks reach over, so that frames that could not be placed are spoken of, too
    strong = np.bincount(tracks.frame[fits & long], minlength=size)
    span = np.arange(tracks.frame[every].min(initial=size), tracks.frame[every].max(initial=0) + 1)
    weak = _runs(span[strong[span] < WEAK_TRACKS])
    # the solve leaves out the worst of the noise, so that a little under 1 is as good as 1
    ratio = solve.rms_px / np.sqrt(2) / solve.noise_px if solve.noise_px > 0 else 0.0
    middle, high = solve.slips
    lost = (1 - count / np.maximum(all_there, 1)).reshape(DOWN, ACROSS) * (all_there.reshape(DOWN, ACROSS) > 0)
    missing = np.setdiff1d(span, solve.frames)
    state, verdict, action = _judge(solve, float(ratio), middle, high, weak, missing, lost, all_there.reshape(DOWN, ACROSS))
    return Report(
        solve.mean_px,
        solve.median_px,
        solve.p95_px,
        solve.frame_error,
        in_view[solve.frames],
        strong[solve.frames],
        region_error,
        count.reshape(DOWN, ACROSS),
        lost,
        _worst_place(region_error, count.reshape(DOWN, ACROSS)),
        solve.inliers,
        solve.parallax_deg,
        solve.noise_px,
        float(ratio),
        solve.lens.fx,
        solve.lens_deviation[0],
        middle,
        high,
        weak,
        state,
        verdict,
        action,
    )


def _runs(frames: np.ndarray) -> tuple[tuple[int, int], ...]:
    """Neighbouring numbers as (first, last)."""
    if len(frames) == 0:
        return ()
    parts = np.split(frames, np.flatnonzero(np.diff(frames) > 1) + 1)
    return tuple((int(p[0]), int(p[-1])) for p in parts)


def _span(run: tuple[int, int]) -> str:
    return f"frame {run[0]}" if run[0] == run[1] else f"frames {run[0]} to {run[1]}"


def _worst_place(error: np.ndarray, count: np.ndarray) -> str:
    """Of the parts of the picture that hold a fair number of observations."""
    fair = np.where(count >= 0.1 * np.median(count[count > 0]), error, 0) if (count > 0).any() else error
    row, column = np.unravel_index(int(fair.argmax()), fair.shape)
    return f"{place_name(float(row), float(column))}, {fair[row, column]:.2f} px"


def place_name(row: float, column: float) -> str:
    """Where in the picture a cell of the map lies."""
    high = "top" if row < 1.5 else "bottom" if row > 2.5 else ""
    side = "left" if column < 2.5 else "right" if column > 4.5 else ""
    return f"{high} {side}".strip() or "middle"


def _judge(
    solve: Solve, ratio: float, middle: float, high: float, weak: tuple, missing: np.ndarray, lost: np.ndarray, there: np.ndarray
) -> tuple[str, str, str]:
    """(state, verdict, action), by what betrays a title first."""
    scale = solve.width / 1280
    vague = solve.lens_deviation[0] / solve.lens.fx
    if high > 0:
        base = f"A title on most of the scene slides under {max(middle, 0.05):.2f} px, and under {max(high, 0.05):.1f} px nearly everywhere"
    else:
        base = f"The average error is {solve.mean_px:.2f} px"
    heavy = (lost > 0.5) & (there > 0.4 * there.max(initial=1))
    if len(missing):
        run = max(_runs(missing), key=lambda r: r[1] - r[0])
        return (
            "bad",
            f"{_span(run).capitalize()} could not be placed.",
            "Track with more features there, or cover what passes in front; then solve again.",
        )
    if high > 0 and (middle > SLIDES_PX * scale or high > 2 * TOO_MUCH_PX * scale):
        if weak:
            return (
                "bad",
                base + ".",
                f"{_span(weak[0]).capitalize()} {'have' if weak[0][0] != weak[0][1] else 'has'} fewer than {WEAK_TRACKS} long tracks: add tracks there.",
            )
        if solve.motion == "free" and solve.parallax_deg < 2:
            return (
                "bad",
                base + ": the camera moves too little for its distance.",
                "Enter the focal length if you know it, or choose a longer part of the clip.",
            )
        return "bad", base + ".", "Reject the worst tracks and solve again, or track with more features."
    if solve.motion == "still":  # what moves by itself does not move it
        base = f"The camera stands still. {base}"
        if solve.inliers < SOLVER.still_share:
            return "doubtful", f"{base}, but only {solve.inliers:.0%} of what was followed stands still.", "Ask for a camera that turns or moves."
        return "good", base + ".", ""
    if solve.motion == "free" and np.deg2rad(solve.parallax_deg) * solve.lens.fx < max(LITTLE_PX, LITTLE_NOISES * solve.noise_px):
        return (
            "doubtful",
            f"{base}, but the camera hardly moves: how far away things are is not known.",
            "Solve it as one that only turns, or choose a part in which it moves.",
        )
    if solve.looks_rolling:
        return (
            "doubtful",
            base + f", but the residuals look like a rolling shutter of {solve.looks_rolling:.2f} of a frame.",
            "Ask for it under Lens, and solve again.",
        )
    if heavy.any() and solve.inliers < 0.8:
        row, column = (float(v.mean()) for v in np.nonzero(heavy))
        return (
            "doubtful",
            f"{base}, but much of what was followed at the {place_name(row, column)} does not fit: something moves there by itself.",
            "Look at the region that is suggested under Track, and cover it.",
        )
    if solve.inliers < LEAST_SHARE:
        return (
            "doubtful",
            f"{base}, but only {solve.inliers:.0%} of what was followed fits this camera.",
            f"Ask for one that {'only turns' if solve.motion == 'free' else 'moves freely'}, or cover what moves by itself.",
        )
    left = float(np.sqrt(max(solve.rms_px**2 - 2 * solve.noise_px**2, 0)))
    # of a camera that was carried round as it turned most fits, and what is near slides by far more than the mean
    if ratio > NOISY_RATIO and (left > LEFT_PX * scale or solve.motion != "free"):
        return (
            "doubtful",
            f"{base}, but the error is {ratio:.1f} times the noise of the tracks: something else is in it.",
            "Look for things that move, a lens that bends otherwise, or a rolling shutter."
            if solve.motion == "free"
            else "The camera may have been carried round a little as it turned: keep titles on what is far away.",
        )
    if weak:
        return (
            "doubtful",
            base + ".",
            f"{_span(weak[0]).capitalize()} {'have' if weak[0][0] != weak[0][1] else 'has'} fewer than {WEAK_TRACKS} long tracks: add tracks there.",
        )
    if vague > VAGUE_FOCAL:
        return "doubtful", f"{base}, but the focal length is known to {vague:.0%} only.", "Enter it if you know it."
    if solve.mean_px > 0.6 * scale:
        return "doubtful", base + ".", "Reject the worst tracks and solve again."
    if solve.warning:
        return "doubtful", base + ".", solve.warning
    return "good", base + ".", ""
