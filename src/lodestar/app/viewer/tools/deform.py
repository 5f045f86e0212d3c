"""The points of what deforms a title or logo, dragged in the picture."""

from collections.abc import Iterator
from typing import NamedTuple

import numpy as np
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen

from lodestar.core.basics.geometry import meet_plane
from lodestar.core.evaluate.objects import pose_of
from lodestar.core.scene.poses import moved
from lodestar.core.shot.objects import Deforming, Logo, Pull, Smear, Title

from ... import theme
from .. import drawing
from .tool import REACH_PX, Tool

AROUND = np.linspace(0, 2 * np.pi, 49)


class Point(NamedTuple):
    """A point that can be dragged: of which deformation, its field, and where it is, in heights."""

    of: Deforming
    part: str
    at: np.ndarray


class DragDeform(Tool):
    """Each smear has a ring where it takes hold and a square where that goes, each pull a ring; they are dragged in the plane of the letters."""

    name, label, icon, tip = "deform", "Deform", "deform", "Drag where a smear or a pull takes hold, and where a smear goes"

    def __init__(self, canvas) -> None:
        super().__init__(canvas)
        self.held: tuple[str, str] | None = None
        self.group: object = None

    def _item(self) -> Title | Logo | None:
        item = self.session.object()
        return item if isinstance(item, Title | Logo) else None

    def hint(self) -> str:
        item = self._item()
        if item is None:
            return "Choose a title or a logo first"
        if not any(isinstance(one, Smear | Pull) for one in item.deforms):
            return "It has no smear and no pull yet: add one at the right, under Deform"
        return "Drag a ring to where it takes hold, a square to where that goes"

    def _points(self, item: Title | Logo) -> Iterator[Point]:
        for one in item.deforms:
            for part in ("point", "to"):
                if one.on and (value := getattr(one, part, None)) is not None:
                    yield Point(one, part, np.array(value.at(self.session.frame)))

    def _to_scene(self, item: Title | Logo) -> np.ndarray:
        """(4, 4) from heights in the object's axes to the scene."""
        height = max(item.height.at(self.session.frame)[0], 1e-4)
        return pose_of(self.session.shot, item, self.session.frame) @ np.diag([height, height, height, 1.0])

    def _hit(self, item: Title | Logo, at: QPointF) -> Point | None:
        camera = self.canvas.camera()
        found: list[tuple[float, Point]] = []
        for point in self._points(item) if camera is not None else ():
            xy, depth = camera.project(moved(self._to_scene(item), point.at))
            away = np.hypot(*(self.canvas.to_widget(xy) - [at.x(), at.y()]))
            if depth > 0 and away < REACH_PX:
                found.append((float(away), point))
        return min(found, key=lambda one: one[0])[1] if found else None

    def press(self, event) -> None:
        item = self._item()
        if event.button() != Qt.MouseButton.LeftButton or item is None:
            return
        point = self._hit(item, event.position())
        self.held, self.group = (point.of.id, point.part) if point is not None else None, object()

    def move(self, event) -> None:
        super().move(event)
        item, camera = self._item(), self.canvas.camera()
        if self.held is None or item is None or camera is None:
            return
        point = next((p for p in self._points(item) if (p.of.id, p.part) == self.held), None)
        if point is None:
            return
        m, ray = self._to_scene(item), camera.rays(self.canvas.to_plate(event.position()))
        # in the plane of the letters, unless that is seen from its edge
        normal = m[:3, 1] if abs(ray @ m[:3, 1]) > 0.1 * np.linalg.norm(m[:3, 1]) else camera.R[2]
        distance = float(meet_plane(camera.centre, ray, moved(m, point.at), normal))
        if not np.isfinite(distance) or distance > 1e5:
            return
        to = moved(np.linalg.inv(m), camera.centre + distance * ray)
        value, frame, how = tuple(round(float(v), 4) for v in to), self.session.frame, self.session.how
        label = "Drag a point of a deformation"
        self.session.edit_value(label, point.of.id, point.part, lambda old: old.changed(frame, value, how), (self.group, self.held))

    def release(self, event) -> None:
        self.held = None
        self.session.history.close_group()

    def paint(self, p: QPainter) -> None:
        item, camera = self._item(), self.canvas.camera()
        if item is None or camera is None:
            return
        m = self._to_scene(item)
        on: dict[tuple[str, str], QPointF] = {}
        for point in self._points(item):
            xy, depth = camera.project(moved(m, point.at))
            if depth > 0:
                on[point.of.id, point.part] = QPointF(*self.canvas.to_widget(xy))
        p.setPen(QPen(QColor(theme.ACCENT), 1.4))
        for one in item.deforms:
            a, b = on.get((one.id, "point")), on.get((one.id, "to"))
            if a is None or not isinstance(one, Smear | Pull):
                continue
            radius, middle = one.radius.at(self.session.frame)[0], np.array(one.point.at(self.session.frame))
            ring = middle + radius * np.stack([np.cos(AROUND), 0 * AROUND, np.sin(AROUND)], 1)
            xy, depth = camera.project(moved(m, ring))
            p.setBrush(Qt.BrushStyle.NoBrush)
            if (depth > 0).all():
                p.setPen(QPen(theme.colour(theme.ACCENT, 0.6), 1, Qt.PenStyle.DotLine))
                p.drawPolyline(drawing.polygon(self.canvas.to_widget(xy)))
            p.setPen(QPen(QColor(theme.ACCENT), 1.4))
            # beside the way, not over what is dragged
            drawing.tag(p, a + QPointF(-8, 14 if b is None or b.y() <= a.y() else -36), [one.name])
            p.setPen(QPen(QColor(theme.ACCENT), 1.4))
            if b is not None:
                p.drawLine(a, b)
                p.setBrush(QColor(theme.ACCENT))
                p.drawRect(int(b.x()) - 3, int(b.y()) - 3, 6, 6)
            p.setBrush(theme.colour(theme.WINDOW, 0.7))
            p.drawEllipse(a, 6, 6)
