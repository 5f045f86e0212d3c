"""The marks of tracks over the picture: rings whose fill tells the error, with tails that tell where they came from."""

import functools
from math import isfinite

import numpy as np
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen, QPixmap

from lodestar.core.track.tracks import Tracks

from .. import theme
from ..derived import errors_of
from ..measures import figure
from .drawing import lines, tag

TAIL = 10  # frames
STAMP = 6  # px from the middle of a stamp to its edge
PHASES = 4  # places within a pixel for which a ring is drawn of its own, along each axis


def paint(p: QPainter, canvas, tracks: Tracks) -> None:
    """Rings with tails; the fill tells the error; rejected: a dim dash; chosen: white."""
    session = canvas.session
    rows = tracks.at(session.frame)
    if len(rows) == 0:
        return
    # only what is drawn is taken to the view: a long clip has a million observations
    first = np.maximum(tracks.starts[tracks.track[rows]], rows - TAIL + 1)
    ends = np.cumsum(rows - first + 1)
    begins = np.r_[0, ends[:-1]]
    tails = canvas.to_widget(tracks.xy[np.arange(ends[-1]) + np.repeat(first - begins, rows - first + 1)])
    at, error = tails[ends - 1], errors_of(session.shot)
    numbers = tracks.track[rows]
    rejected = tracks.rejected[numbers]
    if canvas.drawn["rejected"]:
        p.setPen(QPen(theme.colour(theme.QUIET, 0.8), 1.5))
        p.drawLines(lines(at[rejected] - (4, 0), at[rejected] + (4, 0)))
    if canvas.drawn["tails"]:
        # ends of its own for each line would shine twice through one another
        p.setPen(QPen(theme.colour(theme.TEXT, 0.55), 1, Qt.PenStyle.SolidLine, Qt.PenCapStyle.FlatCap))
        goes_on = np.repeat(~rejected, rows - first + 1)
        goes_on[ends - 1] = False
        at_begin = np.flatnonzero(goes_on)
        p.drawLines(lines(tails[at_begin], tails[at_begin + 1]))
    chosen, hand = session.tracks, set(tracks.keys[:, 0].astype(int).tolist())
    ground = set(session.shot.ground.on_ground) if session.step == "Ground" else set()
    ratio = canvas.devicePixelRatioF()
    # the corner of each stamp falls on a whole pixel, or the ring would be blurred
    kept = np.flatnonzero(~rejected)
    cells = np.round(at[kept] * ratio * PHASES).astype(int)
    parts = cells % PHASES
    corners = (cells // PHASES / ratio - STAMP).tolist()
    px = np.round(error[rows[kept]], 2)
    told = [value if isfinite(value) else None for value in px.tolist()]
    for number, middle, corner, (a, b), off in zip(numbers[kept].tolist(), at[kept].tolist(), corners, parts.tolist(), told, strict=True):
        if number in hand:
            _corner_ticks(p, QPointF(*middle), 7.5, 3.0, QColor("#FFFFFF") if number in chosen else QColor(theme.TEXT))
        look = "chosen" if number in chosen else "ground" if number in ground else ""
        p.drawPixmap(QPointF(*corner), _ring(look, off, a, b, ratio))
    if len(chosen) == 1:
        _tag(p, tracks, error, rows, at, next(iter(chosen)), session)


@functools.lru_cache(4096)
def _ring(look: str, error: float | None, a: int, b: int, ratio: float) -> QPixmap:
    """The ring of a mark whose middle lies a, b of PHASES parts of a pixel off a whole one. Painting some hundred circles for each
    picture took longer than all else over the picture; a stamp of each kind is painted once."""
    stamp = QPixmap(round(2 * STAMP * ratio) + 2, round(2 * STAMP * ratio) + 2)
    stamp.setDevicePixelRatio(ratio)
    stamp.fill(Qt.GlobalColor.transparent)
    p = QPainter(stamp)
    p.setRenderHint(QPainter.RenderHint.Antialiasing)
    centre = QPointF(STAMP + a / PHASES / ratio, STAMP + b / PHASES / ratio)
    p.setPen(QPen(theme.colour("#000000", 0.45), 1))
    if look == "chosen":
        p.setBrush(QColor("#FFFFFF"))
        p.drawEllipse(centre, 4.8, 4.8)
    else:
        p.drawEllipse(centre, 4.0, 4.0)
        p.setPen(QPen(QColor(theme.ACCENT), 1.6) if look == "ground" else QPen(QColor(theme.RAMP[0][1]), 1))
        p.setBrush(theme.colour(theme.TEXT, 0.25) if error is None else theme.error_colour(error))
        p.drawEllipse(centre, 3.1, 3.1)
    p.end()
    return stamp


def _corner_ticks(p: QPainter, centre: QPointF, reach: float, length: float, tint: QColor) -> None:
    """The corners of a square: a mark that was placed by hand."""
    p.setPen(QPen(tint, 1.2))
    for sx in (-1, 1):
        for sy in (-1, 1):
            corner = centre + QPointF(sx * reach, sy * reach)
            p.drawLine(corner, corner - QPointF(sx * length, 0))
            p.drawLine(corner, corner - QPointF(0, sy * length))


def _tag(p: QPainter, tracks: Tracks, error: np.ndarray, rows: np.ndarray, at: np.ndarray, number: int, session) -> None:
    here = np.flatnonzero(tracks.track[rows] == number)
    if len(here) == 0:
        return
    own = slice(*tracks.starts[number : number + 2])
    mean = np.nanmean(error[own]) if np.isfinite(error[own]).any() else np.nan
    fps = session.shot.plate.fps
    frames = tracks.frame[own]
    text = f"{len(frames)} frames, {figure(frames[0] / fps, 1)} to {figure(frames[-1] / fps, 1)} s"
    tag(p, QPointF(*(at[here[0]] + [10, -42])), [f"track {number}" + (f" · {figure(mean, 2)} px" if np.isfinite(mean) else ""), text])
