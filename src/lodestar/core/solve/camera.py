"""From tracks to a solved camera: `solve`."""

import functools
import time
from collections.abc import Callable
from typing import NamedTuple

import msgspec
import numpy as np

from ..basics.errors import SolveError
from ..basics.job import Job
from ..projection.pinhole import Lens
from ..track.tracks import Tracks, frozen
from .adjust import NO_EXTRA, NO_ZOOM, Scene, Seen, adjust, project, seen
from .constants import SOLVER
from .free import FreeSolver
from .known import Span
from .lensing import Lensing
from .look import FirstLook, first_look
from .pieces import links
from .result import Solve, SolveSettings
from .shutter import displacement, motion_of
from .slip import CovarianceSample, covariance_sample, misfit, slide
from .standing import finish_standing, of_still_camera, turn_px
from .turning import finish_turning, fitting_turning
from .uprights import held_up
from .views import Table, parallax, resect
from .zoom import looks_zooming


class Fitted(NamedTuple):
    """A finished solve over a table: which frames are in it, which observations fit, and the limit in px by which that was said."""

    scene: Scene
    frames: list[int]
    good: np.ndarray
    limit_px: float
    cost: float = 0.0


def solve(
    tracks: Tracks, width: int, height: int, settings: SolveSettings, job: Job, start: Solve | None = None, spans: tuple[Span, ...] = ()
) -> Solve:
    """Solve the camera of all frames that the kept tracks reach. start: an earlier solve, from which `settings.refine` goes on.
    spans: distances and directions between the points of tracks, which a camera that moves has to suit too.

    Raises SolveError, with the reason, for too few tracks, a still camera that was asked for as a moving one, no parallax that is no turn either, or a
    move that no camera explains.
    """
    began = time.perf_counter()
    rows = np.flatnonzero(tracks.kept())
    count = len(np.unique(tracks.track[rows]))
    if count < SOLVER.least_tracks:
        raise SolveError(
            f"{count} track{'s are' if count != 1 else ' is'} too few to solve a camera; it needs {SOLVER.least_tracks} or more.",
            "Track again with more features, or bring rejected tracks back.",
        )
    first = int(tracks.frame[rows].min())
    table, first, warning = _one_piece(Table(tracks.frame[rows] - first, tracks.track[rows], tracks.xy[rows], width, height, spans), first)
    focal, lens_free = settings.focal_px or None, (settings.k1, settings.k2)
    distortion = tuple(0.0 if free else value for free, value in zip(lens_free, settings.distortion))
    lens = Lensing(np.array([settings.focal_px, *distortion]), (focal is None, *lens_free))
    refined = start if settings.refine and start is not None and (start.width, start.height) == (width, height) else None
    account = functools.partial(_account, tracks, first, lens, settings, refined, job)
    if settings.zoom == "auto" and refined is None:
        job.step(0.0, "whether the lens zooms")
        result = _with_zoom_or_not(account, table) if looks_zooming(table) else account(table, False)
    else:
        result = account(table, settings.zoom == "zooms" or (settings.zoom == "auto" and refined is not None and len(refined.zoom) > 0))
    # all of the time, so that nothing is left out of what a user waits for
    return msgspec.structs.replace(
        result, warning=f"{warning} {result.warning}".strip(), seconds={**result.seconds, "solve": round(time.perf_counter() - began, 3)}
    )


def _with_zoom_or_not(account: Callable[..., Solve], table: Table) -> Solve:
    """With a zoom where it explains the tracks; or without, where that does so clearly better: what drifts over half of the picture
    looks like a zoom, too. What a solve explains has to be explained as well as the noise lets it be, before how much counts."""
    found: list[Solve] = []
    for zooms, if_sure in ((True, True), (False, False), (True, False)):
        if zooms and any(len(s.zoom) for s in found):
            break
        try:
            solved = account(table.only(np.ones(table.tracks, bool)), zooms, if_sure)
        except SolveError as error:
            reason = error
            continue
        if zooms and np.ptp(np.log(solved.zoom)) < SOLVER.least_zoom:
            continue  # it only looked so
        found.append(solved)
        if found[-1].rms_px / np.sqrt(2) < SOLVER.clear_noises * found[-1].noise_px:
            break
    if not found:
        raise reason
    # a camera that moves has a depth for each point and a place for each frame to bend to errors with
    moves = lambda s: SOLVER.move_costs if s.motion == "free" else 1.0
    closest = min(s.rms_px * moves(s) ** 0.5 for s in found)
    close = [s for s in found if s.rms_px * moves(s) ** 0.5 < SOLVER.close_error * closest]
    # squares of px, what does not fit at all with the square of four noises along both axes
    square = lambda s: s.inliers * s.rms_px**2 + (1 - s.inliers) * 32 * s.noise_px**2
    return min(close, key=lambda s: square(s) * moves(s) * (SOLVER.zoom_costs if len(s.zoom) else 1))


def _account(
    tracks: Tracks,
    first: int,
    lens: Lensing,
    settings: SolveSettings,
    refined: Solve | None,
    job: Job,
    table: Table,
    zooms: bool,
    if_sure: bool = False,
) -> Solve:
    """One solve, with a zoom or without. if_sure: it is given up (SolveError) where no start explains the tracks as well as it should."""
    seconds: dict[str, float] = {}
    began, warning, solver = time.perf_counter(), "", None
    job.part(0.0, 0.25)
    look = first_look(table, lens, settings, refined, job, zooms)
    seconds["turning"] = time.perf_counter() - began
    if look.motion == "turning":
        job.part(0.4, 0.92)
        begin = look.turned if refined is None else _from_solve(refined, table, first, lens, zooms)
        assert begin is not None
        fitted = Fitted(*finish_turning(table, begin, lens, job))
    elif look.motion == "free":
        solver = FreeSolver(table, lens, job, zooms, if_sure)
        look, fitted, warning = _moving_or_turning(solver, settings, refined, first, look)
    # what a camera that hardly turns would tell of its lens is less than what moves by itself would have it be
    if look.motion == "turning" and settings.motion == "auto" and not zooms:
        turn = turn_px(fitted.scene, fitted.frames)
        if turn < SOLVER.still_turn_px * table.width / 1280:
            look = look._replace(motion="still", why=f"all that it turns by is {turn:.1f} px of the picture")
    motion, why = look.motion, look.why
    if motion == "still":
        if not lens.K[0]:
            why += "; how wide the lens sees cannot be told then, so the usual is taken: enter the focal length if you know it"
        lens = of_still_camera(lens, table.width)
        fitted = Fitted(*finish_standing(table, lens, job))
    job.part(0.92, 0.95)
    turning = motion != "free"  # or stands still: all that it sees are directions

    def readmit(fitted: Fitted, limits: float) -> Fitted:
        if turning:
            return fitted._replace(good=fitting_turning(table, fitted.scene, limits * fitted.limit_px, SOLVER.loose_spread))
        assert solver is not None
        more, good = solver.readmitted(fitted.scene, fitted.frames, limits * fitted.limit_px)
        return fitted._replace(scene=more, good=good)

    centred, looks_rolling, rolls = False, 0.0, False
    if motion != "still":
        fitted, centred, looks_rolling, rolls = _with_more(table, fitted, lens, turning, settings.rolling, readmit, job)
    if not fitted.scene.extra[2]:  # what a readout displaces is not known of the others
        fitted = readmit(fitted, 1.0)
    job.part(0.95, 1.0)
    result = _result(tracks, table, fitted, first, motion, lens, seconds, why, warning, centred, looks_rolling, job)
    if solver is not None and not (turning or rolls):  # of a readout no rival knows
        result = _doubted(result, solver.rivals)
    if zooms:
        f = result.lens.fx * result.zooms[[0, -1]]
        result = msgspec.structs.replace(result, why=f"{result.why}; the lens zooms, from {f[0]:.0f} to {f[1]:.0f} px")
    return result


def _moving_or_turning(
    solver: FreeSolver, settings: SolveSettings, refined: Solve | None, first: int, look: FirstLook
) -> tuple[FirstLook, Fitted, str]:
    """A camera that moves, or one that turns after all where that explains about as much; the look at it then, and a warning."""
    table, asked = solver.table, settings.motion != "auto" or refined is not None
    may_turn = not asked and look.left_px < SOLVER.may_turn_px * table.width / 1280
    moving, warning = None, ""
    try:
        moving, warning = _solve_free(solver, settings, refined, first)
    except SolveError:
        if not may_turn or solver.if_sure:
            raise
    nearly = not asked and look.left_px < SOLVER.nearly_turning_noises * table.noise_px
    if moving is not None and not nearly and (not may_turn or solver.explains(moving.scene, moving.good)):
        return look, moving, warning
    assert look.turned is not None
    # to a camera that turns past water, the water is a place that it moves along
    least = 0.0 if moving is None else SOLVER.far_worse * moving.good.mean()
    other = Fitted(*finish_turning(table, look.turned, solver.lens, solver.job, least))
    beside = "no camera that moves was found" if moving is None else f"a camera that moves {moving.good.mean():.0%}"
    why = f"turning alone explains {other.good.mean():.0%} of what was followed, {beside}"
    if moving is None or not solver.explains_more(moving.scene, other.scene):
        return look._replace(motion="turning", why=why), other, ""
    return look._replace(why=why), moving, warning


def _doubted(solve: Solve, rivals: list[float]) -> Solve:
    """With the focal lengths (px) that explain the tracks about as well counted in its deviation, and told, where they are others."""
    clear = max(SOLVER.rival_focal, SOLVER.rival_deviations * solve.lens_deviation[0] / solve.lens.fx)
    others = [f for f in rivals if abs(np.log(f / solve.lens.fx)) > clear]
    if not others:
        return solve
    off = float(np.sqrt(np.mean((np.array(others) - solve.lens.fx) ** 2)))
    low, high = min(*others, solve.lens.fx), max(*others, solve.lens.fx)
    told = (
        f"Focal lengths from {low:.0f} to {high:.0f} px explain the tracks about as well: what moves by itself (water, a crowd) may pass for the place. "
        "Enter the focal length if you know it, cover what moves, or take a longer part of the clip."
    )
    return msgspec.structs.replace(
        solve, warning=f"{solve.warning} {told}".strip(), lens_deviation=(float(np.hypot(solve.lens_deviation[0], off)), *solve.lens_deviation[1:])
    )


def _solve_free(solver: FreeSolver, settings: SolveSettings, refined: Solve | None, first: int) -> tuple[Fitted, str]:
    table, lens, job = solver.table, solver.lens, solver.job
    if refined is not None:
        scene = _from_solve(refined, table, first, lens, solver.zooms)
        frames = [int(j) for j in refined.frames - first if 0 <= j < table.frames]
        if len(frames) < 2:
            raise SolveError("The solve before shares no frames with these tracks.", "Solve from nothing instead.")
        part = solver.part(solver.points(scene, frames, 6.0), frames)
    else:
        reference = None if settings.reference is None else int(np.clip(settings.reference - first, 0, table.frames - 1))
        part = solver.from_nothing(reference)
        if solver.zooms and solver.if_sure and np.ptp(np.log(part.scene.zoom[part.frames])) < SOLVER.least_zoom:
            raise SolveError("The lens only looked as if it zoomed.", "Solve without a zoom.")  # before the time for all frames is spent
    fitted, extra = Fitted(*solver.finish(part)), ""
    if table.spans:
        fitted, extra = _held(table, fitted, lens, job)
    missing = table.frames - len(fitted.frames)
    if missing:
        extra = f"{missing} of {table.frames} frames could not be placed: too few points are known there. {extra}".strip()
    return fitted, extra


def _one_piece(table: Table, first: int) -> tuple[Table, int, str]:
    """The longest run of frames that tracks join, its first frame, and a sentence when there are others."""
    begin, end = np.full(table.tracks, table.frames), np.full(table.tracks, -1)
    np.minimum.at(begin, table.track, table.frame)
    np.maximum.at(end, table.track, table.frame)
    breaks = np.flatnonzero(links(begin, end, table.frames) < SOLVER.least_link)
    if len(breaks) == 0:
        return table, first, ""
    edges = np.r_[0, breaks + 1, table.frames]
    k = int(np.argmax(np.diff(edges)))
    a, b = int(edges[k]), int(edges[k + 1])
    at = int(breaks[np.abs(breaks - a).argmin()] if a else breaks[k])
    near = [len(table.rows(j)) for j in (at, at + 1)]
    cause = "a cut in the clip" if min(near) >= 3 * SOLVER.least_link else "too little to follow there: blur, darkness or a plain picture"
    if b - a < 3:
        raise SolveError(
            f"The tracks fall into {len(edges) - 1} pieces, the longest of {b - a} frames ({cause}, frame {at + first}).",
            "Choose a part of the clip without a cut, or track with more features.",
        )
    rows = np.flatnonzero((table.frame >= a) & (table.frame < b))
    told = (
        f"Only frames {a + first} to {b - 1 + first} are solved: hardly a track leads from frame {at + first} to {at + 1 + first} ({cause}). "
        "Set in and out to solve another part."
    )
    return Table(table.frame[rows] - a, table.track[rows], table.xy[rows], table.width, table.height, table.spans), first + a, told


def _from_solve(solve: Solve, table: Table, first: int, lens: Lensing, zooms: bool) -> Scene:
    """The cameras of an earlier solve over the frames of a table; points unknown (directions for a turning one)."""
    R, C = np.repeat(np.eye(3)[None], table.frames, 0), np.zeros((table.frames, 3))
    inside = (solve.frames >= first) & (solve.frames < first + table.frames)
    at = solve.frames[inside] - first
    R[at], C[at] = solve.R[inside], solve.centres[inside]
    known = np.array([solve.lens.fx, solve.lens.k1, solve.lens.k2])
    zoom = NO_ZOOM
    if zooms:
        zoom = np.ones(table.frames)
        zoom[at] = solve.zooms[inside]
    K = np.where(lens.vary, known, np.where(lens.K != 0, lens.K, [known[0], 0, 0]))
    return Scene(R, C, np.full((table.tracks, 3), np.nan), K, zoom=zoom)


def _observed(table: Table, fitted: Fitted) -> tuple[Scene, Seen, np.ndarray]:
    """What was fitted, without gaps: the scene over the frames and points in use, the observations, and the points' tracks."""
    scene, frames, good = fitted[:3]
    place = np.full(table.frames, -1)
    place[frames] = np.arange(len(frames))
    fit = good & (place[table.frame] >= 0) & np.isfinite(scene.X[table.track, 0])
    if fit.sum() < 100:
        raise SolveError(
            "No camera move explains the tracks.", "Cover what moves by itself (people, water, vehicles), or look whether the clip holds a cut."
        )
    ids = np.flatnonzero(np.bincount(table.track, fit, minlength=table.tracks) >= 2)
    number = np.full(table.tracks, -1)
    number[ids] = np.arange(len(ids))
    rows = np.flatnonzero(fit & (number[table.track] >= 0))
    s = seen(place[table.frame[rows]], number[table.track[rows]], table.xy[rows], len(ids))
    return Scene(scene.R[frames], scene.C[frames], scene.X[ids], scene.K, scene.extra, scene.zoom[frames] if len(scene.zoom) else NO_ZOOM), s, ids


def _refit(
    table: Table, fitted: Fitted, lens: Lensing, turning: bool, job: Job, every: int = 1, rolling: bool = False, centre_px: float = 0.0
) -> Fitted:
    """The fitted scene, adjusted once more with something else free; its cost is measured with the same loss.

    every: only each such frame takes part, which is enough to compare costs by.
    """
    scene, s, ids = _observed(table, fitted)
    moves = motion_of(scene, not turning)
    kept = np.arange(0, len(scene.R), every)
    rows = np.flatnonzero(s.frame % every == 0)
    names, point = np.unique(s.point[rows], return_inverse=True)
    part = seen(s.frame[rows] // every, point, s.xy[rows], len(names))
    zooms = len(scene.zoom) > 0
    scene = scene._replace(R=scene.R[kept], C=scene.C[kept], X=scene.X[names], zoom=scene.zoom[kept] if zooms else NO_ZOOM)
    smoothness = table.smoothness(np.array(fitted.frames)[kept]) if zooms else None
    late = displacement(scene, part, (moves[0][kept], moves[1][kept]), table.centre, table.height) if rolling else None
    done, cost = adjust(
        scene,
        part,
        table.centre,
        loss_px=fitted.limit_px / 3,
        lens=lens.vary,
        move=not turning,
        rounds=12,
        tolerance=1e-6,
        late=late,
        centre_px=centre_px,
        constraints=None if turning else table.constraints(ids[names]),
        constraint_px=table.constraint_px,
        smoothness=smoothness,
        job=job,
    )
    R, C, X, zoom = fitted.scene.R.copy(), fitted.scene.C.copy(), fitted.scene.X.copy(), fitted.scene.zoom.copy()
    frames = np.array(fitted.frames)[kept]
    R[frames], C[frames], X[ids[names]] = done.R, done.C, done.X
    if zooms:
        zoom[frames] = done.zoom
    return fitted._replace(scene=Scene(R, C, X, done.K, done.extra, zoom), cost=cost)


def _held(table: Table, fitted: Fitted, lens: Lensing, job: Job) -> tuple[Fitted, str]:
    """The scene adjusted to suit what is known of the place too, and a sentence where tracks and spans do not agree."""
    job.step(1.0, "what is known of the place")
    before, s, ids = _observed(table, fitted)
    constraints = table.constraints(ids)
    if constraints is None:
        return fitted, "What is known of the place changed nothing: fewer than two of its distances or directions join points that have a place."
    error = project(before, s.frame, s.point, table.centre)[0] - s.xy
    smoothness = table.smoothness(np.array(fitted.frames)) if len(before.zoom) else None
    off, table.constraint_px = misfit(before, s, table.centre, error, fitted.limit_px / 3, lens.vary, constraints, smoothness, job)
    off = np.abs(off)
    worst = dict.fromkeys(constraints.rows[off > 0.9 * off.max()].tolist())  # of two distances neither is known to be the wrong one
    told = ""
    if off.max() > SOLVER.constraint_deviations:
        told = (
            f"What is known of the place does not agree with the tracks: look first at what was said of "
            f"{' or of '.join(f'tracks {ids[constraints.a[k]]} and {ids[constraints.b[k]]}' for k in worst)}, {off.max():.0f} times further off than it should be."
        )
    return _refit(table, fitted, lens, False, job), told


def _with_more(
    table: Table, fitted: Fitted, lens: Lensing, turning: bool, asked: bool, readmit: Callable[[Fitted, float], Fitted], job: Job
) -> tuple[Fitted, bool, float, bool]:
    """What else the lens and the sensor may do: the scene, whether the lens centre was found elsewhere (the table then holds
    it), the readout that the tracks hint at when it was not asked for, and whether a readout explains much.

    Either can pass for the other in part, so the one that explains more is believed.
    """
    job.step(1.0, "lens and shutter")
    every = max(1, len(fitted.frames) // SOLVER.compared_frames)
    elsewhere = SOLVER.centre_share * table.width
    plain, rolling, moved = (_refit(table, fitted, lens, turning, job, every, *more) for more in ((False, 0.0), (True, 0.0), (False, elsewhere)))
    by_rolling, by_centre = (1 - x.cost / max(plain.cost, 1e-12) for x in (rolling, moved))
    readout = float(rolling.scene.extra[2])
    rolls = by_rolling > SOLVER.rolling_clear
    # no sensor is read for longer than its frame, but what is found may be off by a fifth
    hint = min(readout, 1.0) if not asked and by_rolling > SOLVER.rolling_gain and 0.05 < readout < 1.2 else 0.0
    if hint or asked:
        # without a readout it is the middle of the picture that fits: what lies at its top and bottom has to come in again
        fitted = readmit(fitted, SOLVER.rolling_limits)
    if hint:
        # the places of points and the focal length are right only with the readout; the poses stay those that a title drawn
        # without one slides least by
        fitted = _poses_alone(table, _with_readout(table, fitted, lens, turning, job), turning)
    if asked:
        fitted = _with_readout(table, fitted, lens, turning, job)
        readout = fitted.scene.extra[2]
        moved = _refit(table, fitted, lens, turning, job, 1, True, elsewhere)
        by_centre = 1 - moved.cost / max(fitted.cost, 1e-12)
    if by_centre < SOLVER.centre_gain or (not asked and by_centre < by_rolling):
        return fitted, False, hint, rolls
    moved = moved if asked else _refit(table, fitted, lens, turning, job, 1, False, elsewhere)
    dx, dy, readout = moved.scene.extra
    table.centre = (table.centre[0] + float(dx), table.centre[1] + float(dy))
    return moved._replace(scene=moved.scene._replace(extra=np.array([0.0, 0.0, readout]))), True, 0.0, rolls


def _poses_alone(table: Table, fitted: Fitted, turning: bool) -> Fitted:
    """Each camera where it sees the points best as they were filmed, all rows taken as read at once: what fits less well counts too, since
    it lies at the top and the bottom of the picture."""
    scene = fitted.scene
    R, C = scene.R.copy(), scene.C.copy()
    for frame in fitted.frames:
        rows = table.rows(frame)
        rows = rows[np.isfinite(scene.X[table.track[rows], 0])]
        if len(rows) >= SOLVER.least_link:
            K = scene.K * [scene.zooms[frame], 1, 1]
            R[frame], C[frame], *_ = resect(R[frame], C[frame], scene.X[table.track[rows]], table.xy[rows], K, table.centre, not turning)
    return fitted._replace(scene=scene._replace(R=R, C=C, extra=NO_EXTRA))


def _with_readout(table: Table, fitted: Fitted, lens: Lensing, turning: bool, job: Job) -> Fitted:
    """With the readout found; what it displaces depends on the motion, so it is taken anew some times."""
    for _ in range(SOLVER.rolling_rounds):
        job.step(1.0, "shutter")
        before = fitted.scene.extra[2]
        fitted = _refit(table, fitted, lens, turning, job, rolling=True)
        if abs(fitted.scene.extra[2] - before) < 0.01:
            break
    return fitted


def _result(
    tracks: Tracks,
    table: Table,
    fitted: Fitted,
    first: int,
    motion: str,
    lens: Lensing,
    seconds: dict,
    why: str,
    warning: str,
    centred: bool,
    looks_rolling: float,
    job: Job,
) -> Solve:
    turning = motion != "free"
    fitted = fitted._replace(scene=_zoom_about_one(_own_frame(fitted.scene, fitted.frames, turning), fitted.frames))
    scene, s, ids = _observed(table, fitted)
    readout = float(scene.extra[2])
    late = displacement(scene, s, motion_of(scene, not turning), table.centre, table.height) if readout else None
    miss = project(scene, s.frame, s.point, table.centre)[0] - s.xy + (readout * late if late is not None else 0.0)
    error = np.linalg.norm(miss, axis=1)
    spread = parallax(scene.R, s.frame, s.point, table.rays(s.xy, scene.K, scene.zooms[s.frame]), len(ids))
    constraints, used = None if turning else table.constraints(ids), np.array(fitted.frames)
    smoothness = table.smoothness(used) if len(scene.zoom) else None
    sample, _ = covariance_sample(
        scene,
        s,
        table.centre,
        miss,
        fitted.limit_px / 3,
        not turning,
        lens.vary,
        (centred, bool(readout)),
        late,
        constraints,
        table.constraint_px,
        smoothness,
        job,
    )
    sample = CovarianceSample(frozen(sample.cameras.astype(np.float32)), frozen(sample.lens.astype(np.float32)))
    off = sample.lens.copy()
    if smoothness is not None:  # f and the zoom may trade; what they are together is known
        off[:, 0] += scene.K[0] * sample.cameras[..., 6].mean(1)
    deviation = tuple(float(v) for v in off.std(0))
    inside = np.isin(table.frame, used)
    some = scene.X[np.linspace(0, len(ids) - 1, min(SOLVER.slip_points, len(ids))).astype(int)]
    slips = slide(scene.R, scene.C, scene.K, scene.zooms, table.centre, (table.width, table.height), sample, some)
    slips = slips[np.isfinite(slips)]
    return Solve(
        motion,
        Lens(float(scene.K[0]), float(scene.K[0]), *table.centre, float(scene.K[1]), float(scene.K[2])),
        table.width,
        table.height,
        frozen((used + first).astype(np.int32)),
        frozen(scene.R),
        frozen(-np.einsum("kij,kj->ki", scene.R, scene.C)),
        frozen(mean_by(s.frame, error, len(used))),
        frozen(ids.astype(np.int32)),
        frozen(scene.X),
        frozen(mean_by(s.point, error, len(ids))),
        float(error.mean()),
        float(np.median(error)),
        float(np.percentile(error, 95)),
        float(np.sqrt((error**2).mean())),
        float(len(error) / max(inside.sum(), 1)),
        float(np.rad2deg(np.median(spread))),
        (deviation[0], deviation[1], deviation[2]),
        len(ids),
        {k: round(v, 3) for k, v in seconds.items()},
        why,
        warning,
        zoom=frozen(scene.zoom),
        held=True,
        noise_px=table.noise_px,
        covariance_sample=sample,
        readout=readout,
        looks_rolling=float(looks_rolling),
        slips=(float(np.median(slips)), float(np.percentile(slips, 95))) if len(slips) else (0.0, 0.0),
    )


def _zoom_about_one(scene: Scene, frames: list[int]) -> Scene:
    """The same lens with f the focal length half-way through its zoom, in proportion."""
    if not len(scene.zoom):
        return scene
    middle = float(np.exp(np.log(scene.zoom[frames]).mean()))
    return scene._replace(K=scene.K * [middle, 1, 1], zoom=scene.zoom / middle)


def mean_by(key: np.ndarray, value: np.ndarray, count: int) -> np.ndarray:
    return np.bincount(key, value, minlength=count) / np.maximum(np.bincount(key, minlength=count), 1)


def _own_frame(scene: Scene, frames: list[int], turning: bool) -> Scene:
    """Turn, move and size the scene into the frame of reference that `Solve` promises: the middle depth is 10 units."""
    up = held_up(scene.R[frames])
    level = lambda way: way - up * (way @ up)
    ahead = level(scene.R[frames, 2, :].mean(0))
    if np.linalg.norm(ahead) < 0.05:  # it went full circle, or looks straight down, where the top of the picture is ahead
        ahead = max(level(scene.R[frames[0], 2, :]), level(-scene.R[frames[0], 1, :]), key=np.linalg.norm)
    ahead = ahead / np.linalg.norm(ahead)
    Q = np.stack([np.cross(ahead, up), ahead, up])
    if turning:
        return scene._replace(R=scene.R @ Q.T, C=scene.C @ Q.T, X=10 * scene.X @ Q.T)
    middle = scene.C[frames].mean(0)
    depth = np.nanmedian(np.linalg.norm(scene.X - middle, axis=1))
    return scene._replace(R=scene.R @ Q.T, C=(scene.C - middle) @ Q.T * (10 / depth), X=(scene.X - middle) @ Q.T * (10 / depth))
