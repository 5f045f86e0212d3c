"""Which way is up: by how the camera was held, and by lines that are upright in the place (posts, corners of walls, trunks)."""

import cv2
import numpy as np

from ..basics.geometry import F64
from .result import Solve

# a camera is held level sideways better than fore and aft; over a shot the rolls are few that do not hang together (common practice, no source)
HELD_ROLL_DEG, HELD_DEG, ROLLS = 1.0, 10.0, 4
# how far a camera is held off level over a whole shot, sideways and fore and aft; with long tails, as now and then it is aslant on purpose or
# looks down from a drone (common practice, no source)
SIDEWAYS_DEG, FORE_AND_AFT_DEG = 2.0, 15.0
LOOKS_DOWN = 0.1  # within so much (radians) of straight up or down it looks down, as from a drone
WIDTH_PX = 1280  # pictures are looked at no larger than this
SHORTEST = 0.02  # of the picture's width
LEAN_DEG = 40.0  # of a line in the picture off its upright: a camera that looks down sees them meet far below
ROLL_DEG, PITCH_DEG = 12.0, 65.0  # how far cameras are held off level
FIT_DEG, LOOSE_DEG = 0.6, 0.8  # within which a line agrees; at which its weight is halved and halved again
TRIALS, LEAST_LINES, LEAST_SHARE, LEAST_SPREAD = 1500, 10, 0.15, 0.12
# what so large a part of the best agreement is reached by, so near to the normal of the ground, is up: lines run together far away by chance
NEAR_LEVEL_DEG, LEVEL_SHARE = 3.0, 0.7
# where lines agree so well on another direction, this far off, by which the camera is held nearly as well, they do not tell which is up
APART_DEG, RIVAL_SHARE, AS_WELL = 10.0, 0.8, 0.5
# what a line of one frame that agrees adds to the logarithm of how likely a direction is: such lines are 30 times denser there than lines of any lean
AGREES = float(np.log(30.0))
KEPT, COLUMNS = 60, 6


def held_up(R: np.ndarray) -> np.ndarray:
    """Unit vector (3,) up in the frame of reference of cameras R (k, 3, 3), world to camera, by how people hold them.

    The horizon is kept level, so the cameras' x axes lie square to up; a turn shows them in several directions, which tells
    also how far up leans towards the camera. Without a turn it is the mean of their own.
    Source: M. Brown and D. Lowe, Automatic panoramic image stitching using invariant features, 2007, section 5.
    """
    mean = -R[:, 1].mean(0)
    mean /= max(float(np.linalg.norm(mean)), 1e-9)
    across = R[:, 0].T @ R[:, 0] / len(R) * (ROLLS / np.deg2rad(HELD_ROLL_DEG) ** 2)
    up = np.linalg.eigh(across + (np.eye(3) - np.outer(mean, mean)) / np.deg2rad(HELD_DEG) ** 2)[1][:, 0]
    return up if up @ (mean - LOOKS_DOWN * R[:, 2].mean(0)) > 0 else -up


def unlikely(solve: Solve, ups: np.ndarray) -> np.ndarray:
    """(n,) natural logarithm of how much less likely than level a camera is held so, were each of the directions (n, 3) up, or down."""
    over_shot = lambda axes: np.arcsin(np.minimum(np.sqrt(np.mean((axes @ ups.T) ** 2, 0)), 1.0))
    sideways, fore_and_aft = over_shot(solve.R[:, 0]), over_shot(solve.R[:, 2])
    return np.log1p((sideways / np.deg2rad(SIDEWAYS_DEG)) ** 2) + np.log1p((fore_and_aft / np.deg2rad(FORE_AND_AFT_DEG)) ** 2)


def lines_in(picture: np.ndarray) -> np.ndarray:
    """(n, 4) straight lines ax, ay, bx, by of a picture (h, w, 3) uint8 that may be upright, in px.

    Source: R. Grompone von Gioi et al., LSD: A Fast Line Segment Detector, 2010 (OpenCV).
    """
    shrink = max(picture.shape[1] / WIDTH_PX, 1.0)
    grey = cv2.cvtColor(picture, cv2.COLOR_RGB2GRAY)
    if shrink > 1:
        grey = cv2.resize(grey, None, fx=1 / shrink, fy=1 / shrink, interpolation=cv2.INTER_AREA)
    found = cv2.createLineSegmentDetector().detect(grey)[0]
    if found is None:
        return np.zeros((0, 4))
    # a px of the small picture is `shrink` px wide, and its middle is half of that from its edge
    lines = (np.asarray(found, float).reshape(-1, 4) + 0.5) * shrink - 0.5
    d = lines[:, 2:] - lines[:, :2]
    long = np.linalg.norm(d, axis=1) > SHORTEST * picture.shape[1]
    return lines[long & (np.abs(d[:, 0]) < np.tan(np.deg2rad(LEAN_DEG)) * np.abs(d[:, 1]))]


def find_uprights(solve: Solve, lines: dict[int, np.ndarray], level: np.ndarray | None = None) -> np.ndarray:
    """(m, 5) frame, ax, ay, bx, by: the lines that agree on one direction up, at most KEPT, spread over the picture.

    lines: those of some frames that have a camera, as `lines_in` gives them. level: unit normal (3,) of what looks like ground
    in the solve's frame of reference, if anything does. The plane through the camera and an upright line holds the upward
    direction, so each pair of lines proposes one; the one on which most length agrees wins, unless nearly as much agrees on
    the normal of the ground. Empty where too few agree, where as many agree on another direction far off, or where they all
    stand in one place, so that how it leans towards the camera is not told.
    Source: M. Fischler and R. Bolles, Random sample consensus, 1981; vanishing points as in Hartley & Zisserman, 8.6.
    """
    none = np.zeros((0, 5))
    rows, normals = [], []
    at = {int(f): i for i, f in enumerate(solve.frames)}
    for frame, ends in lines.items():
        if frame not in at or len(ends) == 0:
            continue
        camera = solve.camera(at[frame])
        n = np.cross(camera.rays(ends[:, :2]), camera.rays(ends[:, 2:]))
        normals.append(n / np.maximum(np.linalg.norm(n, axis=1, keepdims=True), 1e-12))
        rows.append(np.column_stack([np.full(len(ends), frame), ends]))
    if not rows:
        return none
    N, line = np.concatenate(normals), np.concatenate(rows)
    length = np.linalg.norm(line[:, 3:] - line[:, 1:3], axis=1)
    up = _vote(N, length, len(rows), solve, level)
    if up is None:
        return none
    for _ in range(10):
        off = np.arcsin(np.clip(N @ up, -1, 1)) / np.deg2rad(LOOSE_DEG)
        up = np.linalg.eigh((N * (length / (1 + off**2) ** 2)[:, None]).T @ N)[1][:, 0]
    agree = np.abs(N @ up) < np.sin(np.deg2rad(FIT_DEG))
    spread = np.linalg.svd(N[agree], compute_uv=False)
    if agree.sum() < LEAST_LINES or length[agree].sum() < LEAST_SHARE * length.sum() or spread[1] < LEAST_SPREAD * spread[0]:
        return none
    off = np.arcsin(N[agree] @ up) / np.deg2rad(LOOSE_DEG)
    return _spread_out(line[agree], length[agree] / (1 + off**2) ** 2, solve.width)


def _vote(N: F64, length: F64, frames: int, solve: Solve, level: np.ndarray | None) -> np.ndarray | None:
    """The direction that pairs of lines propose and on which most length of them agrees; None where there is none, or a rival."""
    if len(N) < 2:
        return None
    rng = np.random.default_rng(0)
    pick = rng.choice(len(N), (TRIALS, 2), p=length / length.sum())
    v = np.cross(N[pick[:, 0]], N[pick[:, 1]])
    size = np.linalg.norm(v, axis=1)
    v = v[size > 0.03] / size[size > 0.03, None]
    if level is not None:
        v = np.concatenate([v, level[None]])
    right, head = solve.R[:, 0].mean(0), -solve.R[:, 1].mean(0)
    v *= np.sign(v @ head)[:, None]
    v = v[
        (np.abs(v @ right) < np.sin(np.deg2rad(ROLL_DEG)) * np.linalg.norm(right)) & (v @ head > np.cos(np.deg2rad(PITCH_DEG)) * np.linalg.norm(head))
    ]
    if len(v) == 0:
        return None
    agreed = length @ (np.abs(N @ v.T) < np.sin(np.deg2rad(FIT_DEG)))
    against = unlikely(solve, v)
    # the same line is seen in each of the frames, so it counts once
    likely = agreed / length.sum() * len(N) / frames * AGREES - against
    best = int(likely.argmax())
    if level is not None:
        on_level = np.where(np.abs(v @ level) > np.cos(np.deg2rad(NEAR_LEVEL_DEG)), agreed, 0)
        if on_level.max() > LEVEL_SHARE * agreed[best]:
            return v[int(on_level.argmax())]
    apart = np.abs(v @ v[best]) < np.cos(np.deg2rad(APART_DEG))
    rival = apart & (agreed > RIVAL_SHARE * agreed[best]) & (against < against[best] + AS_WELL)
    return None if rival.any() else v[best]


def _spread_out(line: np.ndarray, worth: np.ndarray, width: int) -> np.ndarray:
    """The best of each column of the picture: long, and in agreement."""
    column = np.clip((line[:, 1] / width * COLUMNS).astype(int), 0, COLUMNS - 1)
    keep = np.concatenate([(rows := np.flatnonzero(column == c))[np.argsort(-worth[rows])][: KEPT // COLUMNS] for c in range(COLUMNS)])
    return line[np.sort(keep)]
