"""What all painting over a picture uses: words on a dark ground, polygons, and lines of the scene as the lens bends them."""

import numpy as np
from PyQt6 import sip
from PyQt6.QtCore import QLineF, QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen, QPolygonF

from lodestar.core.projection.camera import Camera

from .. import theme


def tag(p: QPainter, at: QPointF, lines: list[str], edge: str = "") -> QRectF:
    """Words over the picture on a dark ground, moved inside the view where they would run out of it; returns where they are."""
    p.save()
    p.setFont(theme.font(12))
    lines = [line for line in lines if line]
    width = max(p.fontMetrics().horizontalAdvance(line) for line in lines) + 16
    height, room = 8 + 16 * len(lines), p.viewport()
    rect = QRectF(max(min(at.x(), room.width() - width - 2.0), 0.0), max(min(at.y(), room.height() - height - 2.0), 0.0), width, height)
    p.setPen(QPen(QColor(edge), 1) if edge else Qt.PenStyle.NoPen)
    p.setBrush(theme.colour(theme.FIELD, 0.92))
    p.drawRoundedRect(rect, 4, 4)
    for i, line in enumerate(lines):
        p.setPen(QColor(theme.TEXT if i == 0 else theme.QUIET))
        p.drawText(QRectF(rect.left() + 8, rect.top() + 4 + 16 * i, width, 16), Qt.AlignmentFlag.AlignVCenter, line)
    p.restore()
    return rect


def polygon(xy: np.ndarray) -> QPolygonF:
    """Of (n, 2) places in px of the widget; of none, an empty one."""
    xy, made = np.asarray(xy, float).reshape(-1, 2), QPolygonF()
    if len(xy):
        # written into its memory: to make a point of each takes longer than to draw them
        made.fill(QPointF(), len(xy))
        memory = made.data()
        memory.setsize(xy.nbytes)
        np.frombuffer(memory, np.float64)[:] = xy.ravel()
    return made


def lines(begins: np.ndarray, ends: np.ndarray) -> "sip.array[QLineF | None]":
    """For `QPainter.drawLines`: from (n, 2) places to others, px of the widget."""
    made: sip.array[QLineF | None] = sip.array(QLineF, len(begins))
    if len(begins):
        np.frombuffer(memoryview(made), np.float64)[:] = np.hstack([begins, ends]).ravel()  # type: ignore[arg-type]  # it is a buffer
    return made


def stroke(p: QPainter, xy: np.ndarray) -> None:
    """A solid line through (n, 2) places, px of the widget. As lines apart it takes a third of the time of one line with corners (measured)."""
    p.drawLines(lines(xy[:-1], xy[1:]))


def project_line(camera: Camera, a: np.ndarray, b: np.ndarray, steps: int = 12) -> np.ndarray:
    """(n, 2) pixels along a straight line of the scene, bent as the lens bends it; only what lies before the camera."""
    return project_lines(camera, np.asarray(a)[None], np.asarray(b)[None], steps)[0]


def project_lines(camera: Camera, a: np.ndarray, b: np.ndarray, steps: int) -> list[np.ndarray]:
    """As `project_line`, for (n, 3) beginnings and ends at once: so many lines one by one would take ten times as long."""
    points = a[:, None] + np.linspace(0, 1, steps)[:, None] * (b - a)[:, None]
    xy, depth = camera.project(points)
    wide = np.abs((points @ camera.R.T + camera.t)[..., :2] / np.maximum(depth, 1e-6)[..., None]).max(-1) < 1.6
    return [line[good] for line, good in zip(xy, (depth > 0.05) & wide, strict=True)]
