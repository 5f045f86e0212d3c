"""A picture that is cut out by its alpha, as a drawing: its outline is followed to parts of a pixel and smoothed between its corners."""

from collections.abc import Callable

import cv2
import numpy as np

from ..basics.errors import UserError

MOST_PX = 1600  # of the longer side; a larger picture is made smaller first
BLUR_PX = 0.7  # takes the steps of a picture without soft edges away; corners become as round as this
MOST_POINTS = 30_000
SPECK_PX = 6.0  # of area; what is smaller is dust
REACH, CORNER_DEG = 4, 40.0  # points before and after a place, between which it turns by so much where it is a corner
WINDOW = 11  # points, over which a cubic tells how much a line shakes; it is smoothed by as much
LEAST_OFF_PX = 0.02
CHORD_PX = 0.04


def traced(picture: np.ndarray, step: Callable[[float], object] = lambda share: None) -> str:
    """The source of a drawing (SVG) with the outline of what is opaque in a picture (h, w, 4) uint8 with straight alpha, holes included,
    filled with its mean colour. `step` is told the share that is done and may raise. Raises UserError where the picture has no outline, or
    one of more than MOST_POINTS px.

    Method: border following (S. Suzuki and K. Abe, 1985, by OpenCV), each point moved along the slope to where alpha is a half (Newton's
    step), smoothing splines between corners (P. Dierckx, Curve and Surface Fitting with Splines, 1993, by SciPy).
    """
    shrink = min(1.0, MOST_PX / max(picture.shape[:2]))
    alpha: np.ndarray = picture[..., 3].astype(np.float32) / 255
    if alpha.min() > 0.5:
        raise UserError(
            "The picture has no see-through part, so it has no outline.", "Save it with its background taken away, as PNG; or place it as a picture."
        )
    if alpha.max() <= 0.5:
        raise UserError("Nothing in the picture is opaque, so it has no outline.", "Save it with what shall stand there opaque.")
    red, green, blue = picture[alpha > 0.5][:, :3].mean(0).round().astype(int)
    if shrink < 1:
        alpha = cv2.resize(alpha, None, fx=shrink, fy=shrink, interpolation=cv2.INTER_AREA)
    alpha = cv2.GaussianBlur(cv2.copyMakeBorder(alpha, 3, 3, 3, 3, cv2.BORDER_CONSTANT, value=0.0), (0, 0), BLUR_PX)
    found, _ = cv2.findContours((alpha > 0.5).astype(np.uint8), cv2.RETR_CCOMP, cv2.CHAIN_APPROX_NONE)
    borders = [ring[:, 0].astype(np.float32) for ring in found if cv2.contourArea(ring) > SPECK_PX]
    if not borders:
        raise UserError("What is opaque in the picture is too small for an outline.", "Save it larger.")
    if (long := sum(len(ring) for ring in borders)) > MOST_POINTS:
        raise UserError(f"The outline of the picture is {long:,} px long; {MOST_POINTS:,} are the most.", "Save it smaller, or with cleaner edges.")
    rings, done = [], 0
    for border in borders:
        step(done / long)
        rings.append(_smoothed(_moved(alpha, border)))
        done += len(border)
    height, width = alpha.shape
    lines = " ".join("M" + " ".join(f"{x:.2f},{y:.2f}" for x, y in ring) + "z" for ring in rings)
    return (
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {width} {height}">'
        f'<path fill="#{red:02x}{green:02x}{blue:02x}" fill-rule="evenodd" d="{lines}"/></svg>'
    )


def _moved(alpha: np.ndarray, points: np.ndarray) -> np.ndarray:
    """Points (n, 2) of a border, in px, moved across it to where alpha is a half."""
    slope = np.dstack([cv2.Sobel(alpha, cv2.CV_32F, 1, 0, scale=1 / 8), cv2.Sobel(alpha, cv2.CV_32F, 0, 1, scale=1 / 8)])
    look = lambda field, at: cv2.remap(field, at[None].astype(np.float32), None, cv2.INTER_LINEAR)[0]  # type: ignore[call-overload]
    at = points.copy()
    for _ in range(3):
        way = look(slope, at)
        step = (0.5 - look(alpha, at))[:, None] * way / np.maximum((way * way).sum(1, keepdims=True), 1e-4)
        at += np.clip(step, -0.5, 0.5)
    return points + np.clip(at - points, -1.0, 1.0)


def _smoothed(ring: np.ndarray) -> np.ndarray:
    """A closed line (n, 2) as chords of smooth curves from corner to corner."""
    ring = ring[np.linalg.norm(ring - np.roll(ring, 1, 0), axis=1) > 1e-3].astype(float)
    count = len(ring)
    if count < 4 * REACH:
        return ring
    before, after = ring - np.roll(ring, REACH, 0), np.roll(ring, -REACH, 0) - ring
    turn = np.abs(np.arctan2(before[:, 0] * after[:, 1] - before[:, 1] * after[:, 0], (before * after).sum(1)))
    # the sharpest place within reach
    sharpest = np.max([np.roll(turn, k) for k in range(-REACH, REACH + 1)], 0)
    corners = np.flatnonzero((turn >= sharpest) & (turn > np.deg2rad(CORNER_DEG)))
    if len(corners) == 0:
        return _chords(_curve(np.concatenate([ring, ring[:1]]), True))
    pieces = []
    for a, b in zip(corners, [*corners[1:], corners[0] + count], strict=True):
        piece = ring[np.arange(a, b + 1) % count]
        pieces.append(_chords(_curve(piece, False) if len(piece) > 5 else piece)[:-1])
    return np.concatenate(pieces)


def _curve(points: np.ndarray, closed: bool) -> np.ndarray:
    """A smooth curve by points (n, 2), as near to them as they shake; its ends stay."""
    # evenly along the line, so that only what goes across it is a shake
    along = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(points, axis=0), axis=1))])
    even = np.linspace(0, along[-1], len(points))
    points = np.stack([np.interp(even, along, p) for p in points.T], 1)
    weight = np.ones(len(points))
    if not closed:
        weight[[0, -1]] = 50.0
    off = LEAST_OFF_PX
    if len(points) > WINDOW:
        from scipy.signal import savgol_filter

        shakes = points - savgol_filter(points, WINDOW, 3, axis=0, mode="wrap" if closed else "interp")
        off = max(off, float(np.sqrt((shakes**2).sum(1).mean())))
    from scipy.interpolate import splev, splprep  # not at the start, which is to be quick

    spline, _ = splprep(points.T, w=weight, s=len(points) * off**2, per=closed)
    return np.stack(splev(np.linspace(0, 1, 4 * len(points)), spline), 1)


def _chords(line: np.ndarray) -> np.ndarray:
    """The same line by fewer points."""
    return cv2.approxPolyDP(line.astype(np.float32)[:, None], CHORD_PX, False)[:, 0].astype(float)
