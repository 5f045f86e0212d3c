"""The profile of an edge, drawn by hand: a small curve from the side of the letters to their face."""

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QPainter, QPen, QPolygonF
from PyQt6.QtWidgets import QWidget

from lodestar.core.shape.extrude import drawn_profile

from .. import theme

REACH_PX, MARGIN_PX, STEP = 8.0, 10.0, 0.02
MOST = 12  # points


class ProfileCurve(QWidget):
    """Points between the side (lower left) and the face (upper right), through which the edge goes; drag them, double click adds one, Delete takes
    the chosen one away, arrow keys move it. changed(curve, group): pairs of inset and rise, 0 to 1; group is the same during a drag."""

    changed = pyqtSignal(tuple, object)

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("profile-curve")
        self.setAccessibleName("Drawn profile of the edges")
        self.setToolTip("From the side of the letters to their face: drag points, double click adds one, Delete takes it away")
        self.setFixedHeight(120)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.points = np.zeros((0, 2))
        self.chosen = -1
        self.group: object = None

    def show_curve(self, curve: tuple[float, ...]) -> None:
        points = np.array(curve).reshape(-1, 2)
        if points.shape != self.points.shape or (points != self.points).any():
            self.points = points
            self.chosen = min(self.chosen, len(points) - 1)
            self.update()

    def _area(self) -> QRectF:
        return QRectF(self.rect()).adjusted(MARGIN_PX, MARGIN_PX, -MARGIN_PX, -MARGIN_PX)

    def at(self, point: np.ndarray) -> QPointF:
        """Where a point of the curve lies in the widget."""
        area = self._area()
        return QPointF(area.left() + point[0] * area.width(), area.bottom() - point[1] * area.height())

    def _point(self, at: QPointF) -> np.ndarray:
        area = self._area()
        return np.clip([(at.x() - area.left()) / area.width(), (area.bottom() - at.y()) / area.height()], 0, 1)

    def _put(self, points: np.ndarray, group: object) -> None:
        self.points = points
        self.update()
        self.changed.emit(tuple(round(float(v), 3) for v in points.ravel()), group)

    def _moved(self, to: np.ndarray) -> np.ndarray:
        """With the chosen point elsewhere, still between its neighbours."""
        points = self.points.copy()
        low = points[self.chosen - 1, 0] + STEP if self.chosen > 0 else STEP
        high = points[self.chosen + 1, 0] - STEP if self.chosen + 1 < len(points) else 1 - STEP
        points[self.chosen] = np.clip(to[0], min(low, high), high), to[1]
        return points

    def mousePressEvent(self, event) -> None:
        away = [np.hypot(*(np.array([p.x(), p.y()]) - [event.position().x(), event.position().y()])) for p in map(self.at, self.points)]
        self.chosen = int(np.argmin(away)) if away and min(away) < REACH_PX else -1
        self.group = object()
        self.update()

    def mouseMoveEvent(self, event) -> None:
        if self.chosen >= 0 and event.buttons() & Qt.MouseButton.LeftButton:
            self._put(self._moved(self._point(event.position())), self.group)

    def mouseDoubleClickEvent(self, event) -> None:
        to = self._point(event.position())
        if len(self.points) < MOST and STEP < to[0] < 1 - STEP:
            points = np.concatenate([self.points, to[None]])
            order = np.argsort(points[:, 0], kind="stable")
            self.chosen = int(np.flatnonzero(order == len(points) - 1)[0])
            self._put(points[order], None)

    def keyPressEvent(self, event) -> None:
        ways = {Qt.Key.Key_Left: (-STEP, 0), Qt.Key.Key_Right: (STEP, 0), Qt.Key.Key_Up: (0, STEP), Qt.Key.Key_Down: (0, -STEP)}
        if self.chosen >= 0 and event.key() in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace):
            gone, self.chosen = self.chosen, -1
            self._put(np.delete(self.points, gone, axis=0), None)
        elif self.chosen >= 0 and event.key() in ways:
            self._put(self._moved(np.clip(self.points[self.chosen] + ways[event.key()], 0, 1)), None)
        elif event.key() in (Qt.Key.Key_PageDown, Qt.Key.Key_PageUp) and len(self.points):
            self.chosen = (self.chosen + (1 if event.key() == Qt.Key.Key_PageDown else -1)) % len(self.points)
            self.update()
        else:
            super().keyPressEvent(event)

    def paintEvent(self, event) -> None:
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.setPen(QPen(QColor(theme.ACCENT if self.hasFocus() else theme.LINE), 1))
        p.setBrush(QColor(theme.FIELD))
        p.drawRoundedRect(QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5), 4, 4)
        inset, rise, _ = drawn_profile(tuple(float(v) for v in self.points.ravel()))
        line = [self.at(np.array(q)) for q in zip(inset, rise)]
        area = self._area()
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(theme.colour(theme.READING, 0.12))
        p.drawPolygon(QPolygonF([QPointF(area.left(), area.bottom()), *line, QPointF(area.right(), area.bottom())]))
        p.setPen(QPen(QColor(theme.READING), 1.4))
        p.drawPolyline(QPolygonF(line))
        for k, point in enumerate(self.points):
            p.setPen(QPen(QColor(theme.ACCENT), 1))
            p.setBrush(QColor(theme.ACCENT if k == self.chosen else "#FFFFFF"))
            p.drawEllipse(self.at(point), 3.5, 3.5)
