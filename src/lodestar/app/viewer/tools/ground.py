"""Saying in the picture how the scene lies: lines that are upright, the horizon, and turning all of it by hand."""

import msgspec
import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen

from lodestar.core.basics.geometry import meet_plane, rotation_from_vector, turn_from_matrix, turn_matrix
from lodestar.core.edits.settle import with_ground
from lodestar.core.scene.ground import Ground, PictureLine

from ... import theme
from .. import drawing
from .tool import REACH_PX, Tool

SHORTEST_PX = 20.0


class DrawLine(Tool):
    """A straight line is dragged along something in the picture."""

    def __init__(self, canvas) -> None:
        super().__init__(canvas)
        self.start: QPointF | None = None

    def press(self, event) -> None:
        if event.button() == Qt.MouseButton.LeftButton:
            self.start = event.position()

    def release(self, event) -> None:
        start, self.start = self.start, None
        if start is None or event.button() != Qt.MouseButton.LeftButton:
            return
        a, b = self.canvas.to_plate(start), self.canvas.to_plate(event.position())
        if self.canvas.camera() is None or self.session.shot.solve is None:
            self.refuse("This frame has no camera yet.", "Solve first, or go to a frame that is solved.")
        elif np.hypot(*(b - a)) < SHORTEST_PX:
            self.refuse("That line is too short to tell a direction.", "Drag along all of it, from end to end.")
        else:
            line = PictureLine(self.session.frame, (round(float(a[0]), 2), round(float(a[1]), 2)), (round(float(b[0]), 2), round(float(b[1]), 2)))
            self.session.edit(self.label, lambda s: with_ground(s, self.said(s.ground, line)))
        self.canvas.update()

    def said(self, ground: Ground, line: PictureLine) -> Ground:
        raise NotImplementedError

    def key(self, event) -> bool:
        if event.key() == Qt.Key.Key_Escape and self.start is not None:
            self.start = None
            self.canvas.update()
            return True
        return False

    def paint(self, p: QPainter) -> None:
        if self.start is not None and self.pointer is not None:
            p.setPen(QPen(QColor(theme.ACCENT), 1.6))
            p.drawLine(self.start, self.pointer)


class DrawUpright(DrawLine):
    name, label, icon, tip = (
        "upright",
        "Upright",
        "ruler",
        "Drag along something that stands upright, a post or the edge of a house; two or more of them level the scene",
    )

    def hint(self) -> str:
        count = len(self.session.shot.ground.uprights)
        return "Drag along something upright, from end to end" + (f" · {count} drawn" if count else " · two of them, far apart, level the scene")

    def said(self, ground: Ground, line: PictureLine) -> Ground:
        return msgspec.structs.replace(ground, uprights=(*ground.uprights, line))


class DrawHorizon(DrawLine):
    name, label, icon, tip = "horizon", "Horizon", "scan", "Drag along the horizon, where sea and sky meet"

    def hint(self) -> str:
        return "Drag along the horizon; a new line takes the place of the old one"

    def said(self, ground: Ground, line: PictureLine) -> Ground:
        return msgspec.structs.replace(ground, horizon=line)


class TurnScene(Tool):
    """Handles at the origin turn, move and size the whole scene by hand, with the grid and the horizon over the picture. The camera
    and all that stands in the scene keep their place in the picture."""

    name, label, icon, tip = (
        "turn-scene",
        "Turn scene",
        "rotate-3d",
        "Turn, move and size the frame of reference by hand until grid and horizon agree with the picture",
    )

    def __init__(self, canvas) -> None:
        super().__init__(canvas)
        self.held = ""
        self.group: object = None
        self.from_: dict = {}

    def hint(self) -> str:
        return "Arrows move the origin · rings turn · the square sizes the grid · drag elsewhere slides the grid over the ground"

    def handles(self) -> dict[str, np.ndarray]:
        camera = self.canvas.camera()
        reach = 0.16 * float(np.linalg.norm(camera.centre)) if camera is not None else 1.0
        e = np.eye(3) * reach
        return {
            "x": e[0],
            "y": e[1],
            "z": e[2],
            "about z": 1.6 * (e[0] - e[1]) * 0.707,
            "about x": 1.3 * (e[1] + e[2]) * 0.707,
            "about y": 1.3 * (e[2] - e[0]) * 0.707,
            "size": 0.75 * (e[0] + e[1]),
        }

    def _on_widget(self, point: np.ndarray, camera) -> np.ndarray | None:
        xy, depth = camera.project(point)
        return self.canvas.to_widget(xy) if depth > 0.01 else None

    def press(self, event) -> None:
        camera, shot = self.canvas.camera(), self.session.shot
        if event.button() != Qt.MouseButton.LeftButton or camera is None or shot.solve is None:
            return
        at, best = [event.position().x(), event.position().y()], REACH_PX + 3
        self.held = "ground"
        for name, point in self.handles().items():
            on = self._on_widget(point, camera)
            if on is not None and np.hypot(*(on - at)) < best:
                best, self.held = np.hypot(*(on - at)), name
        self.group = object()
        self.from_ = {"camera": camera, "ground": shot.ground, "pointer": event.position(), "handles": self.handles()}

    def _on_plane(self, at: QPointF, normal: np.ndarray) -> np.ndarray | None:
        camera = self.from_["camera"]
        ray = camera.rays(self.canvas.to_plate(at))
        distance = float(meet_plane(camera.centre, ray, np.zeros(3), normal))
        return camera.centre + distance * ray if np.isfinite(distance) and distance < 1e4 else None

    def move(self, event) -> None:
        super().move(event)
        if not self.held:
            return
        said, start, now = self.from_["ground"], self.from_["pointer"], event.position()
        moved, R, sized = np.array(said.moved), turn_matrix(said.turned), said.sized
        if self.held in ("x", "y", "z"):
            axis = np.eye(3)["xyz".index(self.held)]
            a, b = (self._on_widget(p, self.from_["camera"]) for p in (np.zeros(3), axis))
            if a is None or b is None:
                return
            d = b - a
            moved = moved - axis * float(((now.x() - start.x()) * d[0] + (now.y() - start.y()) * d[1]) / max(d @ d, 1e-6))
        elif self.held.startswith("about"):
            axis = np.eye(3)["xyz".index(self.held[-1])]
            a, b = self._on_plane(start, axis), self._on_plane(now, axis)
            if a is None or b is None:
                return
            back = rotation_from_vector(-axis * np.arctan2(np.cross(a, b) @ axis, a @ b))
            R, moved = back @ R, back @ moved
        elif self.held == "size":
            base = self._on_widget(np.zeros(3), self.from_["camera"])
            if base is None:
                return
            ratio = max(np.hypot(now.x() - base[0], now.y() - base[1]) / max(np.hypot(start.x() - base[0], start.y() - base[1]), 1), 0.01)
            moved, sized = moved / ratio, sized / ratio
        else:
            up = np.array([0, 0, 1.0])
            a, b = self._on_plane(start, up), self._on_plane(now, up)
            if a is None or b is None:
                return
            moved = moved - (b - a)
        fresh = {"moved": tuple(float(v) for v in moved), "turned": turn_from_matrix(R), "sized": float(sized)}
        self.session.edit_ground("Turn the scene", self.group, **fresh)

    def release(self, event) -> None:
        self.held = ""
        self.from_ = {}
        self.session.history.close_group()
        self.canvas.update()

    def paint(self, p: QPainter) -> None:
        camera = self.canvas.camera()
        if camera is None or self.session.shot.solve is None:
            return
        handles, base = self.handles(), self._on_widget(np.zeros(3), camera)
        if base is None:
            return
        for name, tint in zip("xyz", theme.AXES, strict=True):
            end = self._on_widget(handles[name], camera)
            if end is not None:
                p.setPen(QPen(QColor(tint), 3 if self.held == name else 2))
                p.drawLine(QPointF(*base), QPointF(*end))
            grip, normal = handles[f"about {name}"], np.eye(3)["xyz".index(name)]
            across, around = np.cross(normal, grip), np.deg2rad(np.linspace(-35, 35, 25))[:, None]
            xy, depth = camera.project(grip * np.cos(around) + across * np.sin(around))
            p.setPen(QPen(QColor(tint), 2.4 if self.held == f"about {name}" else 1.6))
            p.drawPolyline(drawing.polygon(self.canvas.to_widget(xy[depth > 0.01])))
        p.setPen(QPen(QColor(theme.FIELD), 1))
        for name, point in handles.items():
            on = self._on_widget(point, camera)
            if on is None:
                continue
            p.setBrush(QColor("#FFFFFF" if name == "size" else theme.AXES["xyz".index(name[-1])]))
            rect = QRectF(on[0] - 4, on[1] - 4, 8, 8)
            p.drawRect(rect) if name == "size" else p.drawEllipse(rect)
