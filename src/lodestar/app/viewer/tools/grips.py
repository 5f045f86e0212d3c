"""How the handles of an object look: arrows, spots, bars, tabs and rings, the outline of its foot, and its slip."""

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen

from lodestar.core.evaluate.objects import box_of, pose_of
from lodestar.core.scene.poses import moved
from lodestar.core.shot.document import Shot
from lodestar.core.shot.objects import Object

from ... import theme
from ...derived import slip_of
from ...measures import figure
from .. import drawing

ARC = np.deg2rad(np.linspace(-50, 50, 21))[:, None]  # of a ring that is drawn


def paint_arrow(p: QPainter, base: np.ndarray, end: np.ndarray | None, tint: str, held: bool) -> None:
    """A handle along an axis, from the object to `end` in the widget; nothing where that is out of sight."""
    if end is None:
        return
    p.setPen(QPen(QColor(tint), 3 if held else 2))
    p.drawLine(QPointF(*base), QPointF(*end))
    d = (end - base) / max(np.hypot(*(end - base)), 1)
    side = np.array([-d[1], d[0]])
    p.setPen(Qt.PenStyle.NoPen)
    p.setBrush(QColor(tint))
    p.drawPolygon(drawing.polygon(np.array([end + 5 * d, end - 4 * d + 4 * side, end - 4 * d - 4 * side])))


def paint_spot(p: QPainter, on: np.ndarray | None, tint: str, size: float, square: bool, held: bool) -> None:
    """A handle that is a small square or disc."""
    if on is None:
        return
    p.setPen(QPen(QColor(theme.FIELD), 1))
    p.setBrush(QColor(tint))
    size += 1 if held else 0
    rect = QRectF(on[0] - size, on[1] - size, 2 * size, 2 * size)
    p.drawRect(rect) if square else p.drawEllipse(rect)


def paint_bar(p: QPainter, at: np.ndarray, way: np.ndarray, held: bool) -> None:
    """A short bar along a side, with a dark rim so that it is seen on any picture."""
    across = np.array([-way[1], way[0]]) * 8
    line = QPointF(*(at - across)), QPointF(*(at + across))
    for tint, wide in ((theme.FIELD, 6.0), ("#FFFFFF", 4.0 if held else 3.0)):
        p.setPen(QPen(QColor(tint), wide, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap))
        p.drawLine(*line)


def paint_tab(p: QPainter, on: np.ndarray | None, icon: str) -> None:
    """A handle with an icon, which does something when it is pressed."""
    if on is None:
        return
    p.setPen(QPen(theme.colour("#FFFFFF", 0.5), 1))
    p.setBrush(QColor(theme.FIELD))
    p.drawRoundedRect(QRectF(on[0] - 10, on[1] - 10, 20, 20), 4, 4)
    p.drawPixmap(QPointF(on[0] - 7, on[1] - 7), theme.icon_pixmap(icon, theme.TEXT, 14))


def paint_ring(p: QPainter, canvas, camera, at: np.ndarray, grip: np.ndarray, normal: np.ndarray, tint: str, held: bool) -> None:
    """A part of the ring on which an object is turned about `normal`, round `at` in the scene through the handle `grip`."""
    arm = grip - at
    arm = arm - normal * (arm @ normal)
    across = np.cross(normal, arm)
    xy, depth = camera.project(at + arm * np.cos(ARC) + across * np.sin(ARC))
    p.setPen(QPen(QColor(tint), 2.4 if held else 1.8))
    p.setBrush(Qt.BrushStyle.NoBrush)
    drawing.stroke(p, canvas.to_widget(xy[depth > 0.01]))


def paint_foot(p: QPainter, canvas, camera, shot: Shot, item: Object, frame: float) -> None:
    """Where an object stands: the outline of its foot, or the cross-bars of an anchor."""
    m = pose_of(shot, item, frame)
    low, high = box_of(item, frame)
    if not item.BODY:
        low, high = np.full(3, -0.15), np.full(3, 0.15)
    corners = moved(m, np.array([[low[0], low[1], low[2]], [high[0], low[1], low[2]], [high[0], high[1], low[2]], [low[0], high[1], low[2]]]))
    share = np.linspace(0, 1, 9)[:, None]
    line = np.concatenate([a + share * (b - a) for a, b in zip(corners, np.roll(corners, -1, 0), strict=True)])
    xy, depth = camera.project(line)
    p.setPen(QPen(QColor(theme.ACCENT), 1.4))
    p.setBrush(Qt.BrushStyle.NoBrush)
    if (depth > 0.05).all():
        drawing.stroke(p, canvas.to_widget(xy))
        return
    for a, b in zip(corners, np.roll(corners, -1, 0), strict=True):
        part = drawing.project_line(camera, a, b)
        if len(part) > 1:
            drawing.stroke(p, canvas.to_widget(part))


def paint_slip(p: QPainter, canvas, item: Object) -> None:
    """The slip badge: silent while it is good, in words where it is not; a check pattern always says."""
    slip, camera = slip_of(canvas.session.shot, item, canvas.session.frame), canvas.camera()
    doubtful = slip > 0.5
    if camera is None or not np.isfinite(slip) or not (doubtful or getattr(item, "pattern", "") == "grid"):
        return
    low, high = box_of(item, canvas.session.frame)
    at, depth = camera.project(moved(pose_of(canvas.session.shot, item, canvas.session.frame), np.array([high[0], low[1], high[2]])))
    if depth > 0:
        tint = theme.BAD if slip > 1.5 else theme.DOUBTFUL if doubtful else theme.GOOD
        word = "slides" if slip > 1.5 else "doubtful" if doubtful else "holds"
        drawing.tag(p, QPointF(*(canvas.to_widget(at) + [10, -26])), [f"{word} · slip {figure(slip, 1)} px"], tint)
