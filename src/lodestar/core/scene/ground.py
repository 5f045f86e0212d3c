"""The scene's frame of reference: z up, the ground at z = 0, in metres where a distance is known."""

import functools
from collections.abc import Sequence

import msgspec
import numpy as np

from ..basics.errors import UserError
from ..basics.geometry import Similarity, fit_plane, identity, plane_by_votes, turn_matrix
from ..solve.constants import SOLVER
from ..solve.known import Span, size_of
from ..solve.result import Solve
from ..solve.uprights import HELD_DEG, unlikely

EYE_HEIGHT = 1.6  # metres over the ground that are taken for a camera that only turns (common practice, no source)
HELD_UP = np.array([0.0, 0.0, 1.0])  # by how the camera was held: the z axis of a solve's own frame of reference
LINE_DEG, ROUNDS = 0.8, 8  # a line that leans so far against the others counts by half; rounds of weighting them
LINE_PX = 1.5  # how far the ends of a line drawn by hand are off
SLOPE_DEG, SURE = 1.0, 2.0  # uprights that lean less, or by no more than so many of their deviations, against the ground's plane bear it out
FOUND_DEG = 2.0  # how far the level that was found by itself may be off (from the demo shots and other seeds: 1.6 at most)
LEVEL_DEG = 35.0  # ground leans less than this against the camera, or against upright lines
# where ground that suits the camera holds so many of the points below it, and ground that suits the lines a smaller part of as many, the lines are
# rather edges of clouds, or seams that run together by chance
GROUND_SHARE, BORNE_SHARE = 0.5, 0.5
# a plane that a smaller part of them lies on may be a row of roofs as well as ground (in real clips of a drone: 0.04 wrong, 0.2 right)
LEAST_SHARE = 0.08
# a plane across the view may be ground under a camera that looks straight down, as well as a wall: so many points in front lie on it (in real clips: 0.22
# of a street from above, 0.15 at most of others), and this many times as many as on the ground that was found; both to this share of their spread, as
# a camera that comes down on it hardly tells how far away each point is
ACROSS_SHARE, ACROSS_MORE, ACROSS_EVEN = 0.18, 2.0, 0.03
HELD_SHARE = 1 / 30  # of the points below the camera: so many more lie on ground by which the camera is held e times less likely


class PictureLine(msgspec.Struct, frozen=True):
    """A straight line drawn in the picture of a frame, from a to b, pixels as filmed."""

    frame: int
    a: tuple[float, float]
    b: tuple[float, float]


class Ground(msgspec.Struct, frozen=True, kw_only=True):
    """What the user said of the scene, in any mix; tracks by their numbers.

    on_ground: three or more on the ground. origin: the one at (0, 0, 0). spans: how far apart two are, in metres, and along
    which axis the one lies from the other; several are suited as well as they can be. uprights: lines that are upright in the
    place; horizon: where it is.
    turned (heading, pitch, roll), moved (3,), sized: what is done to all of it at last, by hand.
    eye_height: metres from the ground to a camera that only turns. hides: whether what is below the ground is out of sight. uneven: whether it
    follows the points where they leave the level plane, or is level everywhere.
    """

    on_ground: tuple[int, ...] = ()
    origin: int | None = None
    spans: tuple[Span, ...] = ()
    uprights: tuple[PictureLine, ...] = ()
    horizon: PictureLine | None = None
    turned: tuple[float, float, float] = (0.0, 0.0, 0.0)
    moved: tuple[float, float, float] = (0.0, 0.0, 0.0)
    sized: float = 1.0
    eye_height: float = EYE_HEIGHT
    hides: bool = True
    uneven: bool = True

    @property
    def measured(self) -> bool:
        """Whether a length in the scene is a length in metres."""
        return any(s.metres > 0 for s in self.spans)


def with_span(said: Ground, a: int, b: int, *, metres: float | None = None, along: str | None = None) -> Ground:
    """With one thing more known (or, 0 and '', no longer known) of how b lies from a."""
    old = next((s for s in said.spans if {s.a, s.b} == {a, b}), Span(a, b))
    new = Span(a, b, old.metres if metres is None else metres, old.along if along is None else along)
    rest = tuple(new if s is old else s for s in said.spans) if old in said.spans else (*said.spans, new)
    return msgspec.structs.replace(said, spans=tuple(s for s in rest if s.metres > 0 or s.along))


def reference(solve: Solve, said: Ground) -> Similarity:
    """From the solve's own frame of reference to the scene's.

    Up is the direction that suits best all that was said of it (points on the ground, uprights, a horizon), each weighted by
    how well it can be known; without a word it is found: see `found_level`.
    Raises UserError when the points named have no place in the solve, or do not span a plane.
    """
    place = {int(k): xyz for k, xyz in zip(solve.point_ids, solve.xyz)} if solve.motion == "free" else {}
    known = np.array([place[k] for k in said.on_ground if k in place])
    if place and said.on_ground and len(known) < 3:
        raise UserError(
            f"Only {len(known)} of the chosen points have a place in the solve; a plane needs three.", "Choose more points on the ground."
        )
    plane = robust_plane(known) if len(known) else None
    found = found_level(solve) if place else None
    known_spans = [(place[s.b] - place[s.a], s) for s in said.spans if s.a in place and s.b in place]
    posts = [d for d, s in known_spans if s.along == "z"]
    told = _up(solve, said, plane, None if found is None else found[1], posts)
    if told is None:
        centre, normal = found if found is not None else found_level(solve)
    else:
        normal = told[0]
        if not place:
            centre = solve.centres.mean(0) - said.eye_height * normal
        else:
            centre = plane[0] if plane is not None else _ground_under(solve, normal)
    ahead = np.zeros(3)
    for along in [d if s.along == "y" else np.cross(normal, d) for d, s in known_spans if s.along in ("x", "y")]:
        # the first says which way, the others how precisely
        along = along - normal * (along @ normal)
        ahead = ahead + (-along if along @ ahead < 0 else along) / max(float(np.linalg.norm(along)), 1e-9)
    if np.linalg.norm(ahead) < 0.5:
        ahead = solve.R[:, 2, :].mean(0)
    ahead = ahead - normal * (ahead @ normal)
    if np.linalg.norm(ahead) < 0.01:  # who looks straight down: as the solve's own frame of reference
        ahead = np.array([0.0, 1.0, 0.0]) - normal * normal[1]
    ahead /= float(np.linalg.norm(ahead))
    Q = np.stack([np.cross(ahead, normal), ahead, normal])
    far = [(s.metres, apart) for d, s in known_spans if s.metres > 0 and (apart := float(np.linalg.norm(d))) > 1e-9]
    scale = size_of(*np.array(far).T) if far else 1.0
    start = place[said.origin] if said.origin in place else _foot(solve, centre, normal) if place else centre
    shift = -scale * Q @ start
    if said.origin is not None and said.origin in place:
        # the origin may lie on a post; the ground stays at the plane that was said
        shift[2] = -scale * (Q @ centre)[2] if plane is not None else shift[2]
    by_hand = Similarity(said.sized, turn_matrix(said.turned), np.array(said.moved))
    return by_hand.after(Similarity(scale, Q, shift))


def _up(
    solve: Solve, said: Ground, plane: tuple[np.ndarray, np.ndarray] | None, found: np.ndarray | None = None, posts: Sequence[np.ndarray] = ()
) -> tuple[np.ndarray, float] | None:
    """Unit vector up in the solve's frame of reference, and the deviation of how it leans the way that is told worst, in radians;
    None where nothing is said of it and there are points to tell.

    found: what is taken for up where too little is said, instead of how the camera was held. posts: what runs upright.
    """
    lines = [(line, normal, False) for line in said.uprights if (normal := _line_normal(solve, line)) is not None]
    if said.horizon is not None and (normal := _line_normal(solve, said.horizon)) is not None:
        lines.append((said.horizon, normal, True))
    if plane is None and not lines and not posts:
        if solve.motion == "free":
            return None
        if len(solve.uprights):
            return _up(solve, msgspec.structs.replace(said, uprights=found_uprights(solve)), None)
        return HELD_UP, float(np.deg2rad(HELD_DEG))
    hint, unsure = (HELD_UP, HELD_DEG) if found is None else (found, FOUND_DEG)
    sure = [e / np.deg2rad(unsure) for e in _across(hint)]
    if plane is not None:
        sure += [e / np.deg2rad(0.2) for e in _across(plane[1])]
    for post in posts:
        sure += [e / SOLVER.direction_off for e in _across(post)]
    up, trust = hint, np.ones(len(lines))
    for _ in range(ROUNDS if len(lines) > 2 else 1):
        rows = list(sure)
        for (line, normal, is_horizon), share in zip(lines, trust, strict=True):
            weight = share * float(np.hypot(line.b[0] - line.a[0], line.b[1] - line.a[1])) / LINE_PX
            rows += [e * weight for e in _across(normal)] if is_horizon else [normal * weight]
        told, axes = np.linalg.svd(np.array(rows))[1:]
        up = axes[2]
        # a line that does not agree with the others, as one along a shadow, counts for nothing
        off = np.array([0.0 if is_horizon else np.arcsin(np.clip(normal @ up, -1, 1)) for _, normal, is_horizon in lines])
        trust = 1 / (1 + (off / np.deg2rad(LINE_DEG)) ** 2)
    # ground under a camera that looks straight down is upright as the camera was held: then up is the side that the camera is on
    towards = solve.centres.mean(0) - plane[0] if plane is not None and abs(up @ HELD_UP) < np.sin(np.deg2rad(LEVEL_DEG)) else HELD_UP
    return up if up @ towards > 0 else -up, float(1 / told[1])


def _across(d: np.ndarray) -> np.ndarray:
    """(2, 3): two unit vectors square to d and to each other."""
    return np.linalg.svd(d[None])[2][1:]


def _line_normal(solve: Solve, line: PictureLine) -> np.ndarray | None:
    """Unit normal of the plane through the camera and a line of its picture; None where that frame has no camera."""
    at = np.flatnonzero(solve.frames == line.frame)
    if len(at) == 0:
        return None
    a, b = solve.camera(int(at[0])).rays(np.array([line.a, line.b], float))
    normal = np.cross(a, b)
    length = np.linalg.norm(normal)
    return normal / length if length > 1e-9 else None


def _foot(solve: Solve, centre: np.ndarray, normal: np.ndarray) -> np.ndarray:
    middle = np.median(solve.xyz, 0)
    return middle - normal * ((middle - centre) @ normal)


def robust_plane(points: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Centre and unit normal of the plane of (n, 3) points; shrugs off wrong ones. Raises UserError for points in one line."""
    centre, normal, rms = fit_plane(points)
    if len(points) > 4:
        inside = plane_by_votes(points, _spread(points) * 0.02, np.random.default_rng(0))[2]
        centre, normal, rms = fit_plane(points[inside])
        points = points[inside]
    size = np.linalg.svd(points - centre, compute_uv=False)
    if size[1] < 0.02 * size[0]:
        raise UserError("The chosen points lie in one line, which does not tell how the ground leans.", "Add a point beside the line.")
    return centre, normal


def _spread(points: np.ndarray) -> float:
    return float(np.median(np.linalg.norm(points - np.median(points, 0), axis=1)))


def found_uprights(solve: Solve) -> tuple[PictureLine, ...]:
    """The upright lines that were found in the plate, as a user would have drawn them."""
    return tuple(PictureLine(int(f), (float(ax), float(ay)), (float(bx), float(by))) for f, ax, ay, bx, by in solve.uprights)


@functools.lru_cache(maxsize=4)
def believed_uprights(solve: Solve) -> tuple[PictureLine, ...]:
    """The same, or none where the points say that they are not upright: hardly any ground lies level by them."""
    lines, ground = found_uprights(solve), level_points(solve)
    if lines and solve.motion == "free" and len(ground) > GROUND_SHARE * len(_near_below(solve, HELD_UP)):
        up = _up(solve, Ground(uprights=lines), None)
        if up is not None and len(_on_plane(solve, up[0], LEVEL_DEG)) < BORNE_SHARE * len(ground):
            return ()
    return lines


@functools.lru_cache(maxsize=4)
def found_level(solve: Solve) -> tuple[np.ndarray, np.ndarray]:
    """A point of the ground and the direction up, (3,) each, when nothing is said of them.

    Up is the normal of the largest plane below the camera, unless upright lines in the plate say that it lies on a slope.
    """
    centre, normal = level_plane(solve)
    lines = believed_uprights(solve)
    if not lines:
        return centre, normal
    told = _up(solve, Ground(uprights=lines), None)
    assert told is not None
    up, off = told
    slope = max(np.deg2rad(SLOPE_DEG), SURE * off if solve.held else 0.0)
    if len(level_points(solve)) >= 3 and up @ normal > np.cos(slope):
        return centre, normal
    return _ground_under(solve, up), up


def level_is_told(solve: Solve) -> bool:
    """Whether points or upright lines tell which way is up; else it is taken as the camera was held."""
    return bool(len(level_points(solve)) or believed_uprights(solve))


def says_level(said: Ground) -> bool:
    """Whether a user said which way is up."""
    return bool(said.on_ground or said.uprights or said.horizon) or said.turned != (0.0, 0.0, 0.0)


def proposal(solve: Solve) -> tuple[Ground, str]:
    """What was found of the ground, said as a user would say it, and in words; raises UserError when nothing was found."""
    lines = believed_uprights(solve)
    if solve.motion == "free":
        rows = level_points(solve)
        normal = level_plane(solve)[1]
        slope = float(np.rad2deg(np.arccos(np.clip(found_level(solve)[1] @ normal, -1, 1))))
        if slope < 0.01 and len(rows) >= 3:
            borne = f", and {len(lines)} upright lines agree" if lines else ""
            return Ground(on_ground=tuple(int(i) for i in solve.point_ids[rows])), f"level by the largest plane below the camera{borne}"
        if lines:
            slopes = f"; the ground slopes by {slope:.1f}°" if len(rows) >= 3 else ""
            return Ground(uprights=lines), f"level by {len(lines)} upright lines{slopes}"
    elif lines:
        return Ground(uprights=lines), f"level by {len(lines)} upright lines"
    raise UserError("No level ground was found below the camera.", "Choose points on it, or draw what is upright.")


def level_plane(solve: Solve) -> tuple[np.ndarray, np.ndarray]:
    """The largest plane below the camera path within LEVEL_DEG of level: (centre, normal)."""
    points = solve.xyz[level_points(solve)]
    if len(points) < 3:
        return np.median(solve.xyz, 0), HELD_UP
    centre, normal, _ = fit_plane(points)
    return centre, normal if normal @ HELD_UP > 0 else -normal


@functools.lru_cache(maxsize=4)  # the panel asks at each frame that is shown
def level_points(solve: Solve) -> np.ndarray:
    """Rows of the points that make the largest plane below the camera path; none where too few lie below it."""
    rows = _on_plane(solve, HELD_UP, LEVEL_DEG)
    rows.flags.writeable = False  # kept, and given to all who ask
    return rows


def _on_plane(solve: Solve, up: np.ndarray, lean_deg: float) -> np.ndarray:
    """Rows of the points that make the largest plane below the camera path that leans less against `up`; none where too few lie below it."""
    near = _near_below(solve, up)
    if len(near) < 8:
        return near[:0]
    points, level = solve.xyz[near], lambda normals: abs(normals @ up) > np.cos(np.deg2rad(lean_deg))
    held = lambda normals: unlikely(solve, normals) * (HELD_SHARE * len(near)) if solve.held else 0.0
    against = lambda normals: np.where(level(normals), held(normals), np.inf)
    _, normal, inside = plane_by_votes(points, 0.006 * _spread(points) + 1e-9, np.random.default_rng(0), against)
    least = LEAST_SHARE * len(near) if solve.held else 3
    return near[inside] if level(normal) and inside.sum() >= least else near[:0]


@functools.lru_cache(maxsize=4)
def points_across_view(solve: Solve) -> np.ndarray:
    """Rows of the points on the largest plane across the view, where it is rather the ground than what was found is; none else."""
    ahead = solve.R[:, 2].mean(0)
    up = -ahead / max(float(np.linalg.norm(ahead)), 1e-9)
    near = _near_below(solve, up) if solve.motion == "free" else np.zeros(0, int)
    if len(near) < 8:
        return near[:0]
    points, even = solve.xyz[near], ACROSS_EVEN * _spread(solve.xyz[near]) + 1e-9
    against = lambda normals: np.where(abs(normals @ up) > np.cos(np.deg2rad(LEVEL_DEG)), 0.0, np.inf)
    inside = plane_by_votes(points, even, np.random.default_rng(0), against)[2]
    middle, normal, _ = fit_plane(points[inside])
    inside = np.abs((points - middle) @ normal) < even
    centre, level = found_level(solve)
    on_ground = (np.abs((solve.xyz - centre) @ level) < even).sum()
    across = abs(normal @ up) > np.cos(np.deg2rad(LEVEL_DEG)) and inside.sum() >= max(ACROSS_SHARE * len(near), ACROSS_MORE * on_ground)
    rows = near[inside] if across else near[:0]
    rows.flags.writeable = False
    return rows


def _near_below(solve: Solve, up: np.ndarray) -> np.ndarray:
    """Rows of the points below the camera path, but for the farthest quarter, whose places are the least known."""
    below = np.flatnonzero((solve.xyz @ up) < (solve.centres @ up).min())
    away = np.linalg.norm(solve.xyz[below] - solve.centres.mean(0), axis=1)
    return below[np.argsort(away)[: max(40, len(below) * 3 // 4)]]


def _ground_under(solve: Solve, up: np.ndarray) -> np.ndarray:
    """(3,) a point at the height that most points below the camera share, when up is known."""
    near = _near_below(solve, up)
    if len(near) < 3:
        return np.median(solve.xyz, 0)
    heights = np.sort(solve.xyz[near] @ up)
    reach = np.searchsorted(heights, heights + 0.012 * _spread(solve.xyz[near])) - np.arange(len(heights))
    first = int(reach.argmax())
    middle = np.median(solve.xyz, 0)
    return middle + up * (float(np.median(heights[first : first + reach[first]])) - middle @ up)


def scene_of(solve: Solve | None, said: Ground) -> tuple[Similarity, str]:
    """As `reference`, but what cannot be is left out and told: the picture goes on while the user mends it."""
    if solve is None:
        return identity(), ""
    try:
        return reference(solve, said), ""
    except UserError as error:
        return reference(solve, msgspec.structs.replace(said, on_ground=())), error.what
