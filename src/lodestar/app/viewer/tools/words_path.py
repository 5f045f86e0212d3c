"""A path for the words of a title, drawn over a surface or from point to point of the scene; its points are dragged afterwards."""

import cv2
import numpy as np
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen

from lodestar.core.edits import letters
from lodestar.core.evaluate.lines import path_line
from lodestar.core.evaluate.objects import pose_of
from lodestar.core.evaluate.pointing import Points, surface_under
from lodestar.core.scene.poses import moved
from lodestar.core.shot.objects import Title

from ... import theme
from ...derived import covariances_of, points_of
from .. import drawing
from .tool import REACH_PX, Tool

STEP_PX, SIMPLER_PX, SNAP_PX = 8.0, 3.0, 22.0


class DrawWordsPath(Tool):
    """Clicks lay point after point on the surface under the first one, with Ctrl on points of the scene; a drag draws the line as a whole."""

    name, label, icon, tip = "words-path", "Path of words", "spline", "Draw the line that a title's words stand on, or drag its points"

    def __init__(self, canvas) -> None:
        super().__init__(canvas)
        self.places: list[np.ndarray] = []  # of the path that is being drawn, in the scene
        self.of = ""  # the title that it is drawn for
        self.normal = np.array([0.0, 0.0, 1.0])
        self.freehand = self.pressed = False
        self.start = QPointF()
        self.held: int | None = None
        self.marked: int | None = None
        self.group: object = None

    def title(self) -> Title | None:
        item = self.session.object()
        return item if isinstance(item, Title) and not item.locked else None

    def hint(self) -> str:
        title = self.title()
        if title is None:
            return "Choose a title first"
        if self.places:
            return "Click the next point, with Ctrl a point of the scene · Enter ends it · Backspace takes back · Escape drops it"
        if title.path:
            return "Drag its points, with Ctrl to points of the scene · Delete takes the one in hand away"
        return "Drag a line over a surface, or click point after point · Ctrl: points of the scene"

    # geometry

    def _snapped(self, at: QPointF) -> np.ndarray | None:
        """The solved point that is near to the pointer."""
        points, camera = points_of(self.session.shot), self.canvas.camera()
        if camera is None or not len(points):
            return None
        xy, depth = camera.project(points)
        away = np.where(depth > 0, np.linalg.norm(self.canvas.to_widget(xy) - [at.x(), at.y()], axis=1), np.inf)
        return points[away.argmin()] if away.min() < SNAP_PX else None

    def _place(self, event) -> np.ndarray | None:
        """Where the next point is: on a point of the scene, on the plane of those before it, or on the surface that the first one finds."""
        shot, at, camera = self.session.shot, event.position(), self.canvas.camera()
        if event.modifiers() & Qt.KeyboardModifier.ControlModifier and (snapped := self._snapped(at)) is not None:
            return snapped
        if self.places:
            return self.on_plane(at, self.places[-1], self.normal)
        if camera is None:
            return None
        points = Points(points_of(shot), covariances_of(shot))
        patch = surface_under(shot, camera, self.canvas.to_plate(at), points, self.session.snap, self.session.far_distance)
        if patch is None:
            self.refuse("There is no surface under the pointer.", "Begin where the ground or a wall is seen.")
            return None
        self.normal = patch.normal / np.linalg.norm(patch.normal)
        return patch.centre

    def _points_on_widget(self, title: Title) -> np.ndarray:
        """(n, 2) where the points of its path are in the view; nan for those behind the camera."""
        camera = self.canvas.camera()
        m = pose_of(self.session.shot, title, self.session.frame)
        xy, depth = camera.project(moved(m, np.array(title.path).reshape(-1, 3)))
        return np.where((depth > 0.01)[:, None], self.canvas.to_widget(xy), np.nan)

    # mouse and keys

    def press(self, event) -> None:
        title = self.title()
        if event.button() != Qt.MouseButton.LeftButton or title is None or self.canvas.camera() is None:
            return
        if title.path and not self.places:
            away = np.linalg.norm(self._points_on_widget(title) - [event.position().x(), event.position().y()], axis=1)
            near = np.isfinite(away).any() and np.nanmin(away) < REACH_PX + 2
            self.held = self.marked = int(np.nanargmin(away)) if near else None
            self.group = object()
            return
        if self.of != title.id:
            self.places = []
        place = self._place(event)
        if place is not None:
            self.of = title.id
            self.places.append(place)
            self.pressed, self.freehand, self.start = True, False, event.position()

    def move(self, event) -> None:
        super().move(event)
        title = self.title()
        if self.held is not None and title is not None:
            self._drag(title, event)
        elif self.pressed and (event.position() - self.start).manhattanLength() > STEP_PX:
            place = self.on_plane(event.position(), self.places[-1], self.normal)
            if place is not None:
                self.places.append(place)
                self.freehand, self.start = True, event.position()

    def _drag(self, title: Title, event) -> None:
        assert self.held is not None
        shot, frame = self.session.shot, self.session.frame
        m = pose_of(shot, title, frame)
        here = moved(m, np.array(title.path).reshape(-1, 3)[self.held])
        ctrl = event.modifiers() & Qt.KeyboardModifier.ControlModifier
        to = self._snapped(event.position()) if ctrl else None
        if to is None:
            to = self.on_plane(event.position(), here, m[:3, :3] @ np.array(title.path_normal))
        if to is not None:
            number = self.held
            self.session.edit(
                "Drag a point of the path", lambda s: letters.with_path_point(s, title.id, frame, number, to), (self.group, title.id, number)
            )

    def release(self, event) -> None:
        self.pressed = False
        if self.freehand:
            self.freehand = False
            self._end()
        self.held = None
        self.session.history.close_group()
        self.canvas.update()

    def double(self, event) -> None:
        if len(self.places) > 1:
            self._end()

    def takes(self, event) -> bool:
        keys = (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Backspace, Qt.Key.Key_Escape)
        return bool(self.places and event.key() in keys) or (self.marked is not None and event.key() == Qt.Key.Key_Delete)

    def key(self, event) -> bool:
        title = self.title()
        if self.places and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self._end()
        elif self.places and event.key() == Qt.Key.Key_Backspace:
            self.places.pop()
        elif self.places and event.key() == Qt.Key.Key_Escape:
            self.places.clear()
        elif title is not None and title.path and self.marked is not None and event.key() == Qt.Key.Key_Delete:
            self.session.edit("Take away a point of the path", lambda s: letters.without_path_point(s, title.id, self.marked or 0))
            self.marked = None
        else:
            return False
        self.canvas.update()
        return True

    def _end(self) -> None:
        title, camera = self.title(), self.canvas.camera()
        if title is None or camera is None or title.id != self.of:
            self.places = []
            return
        if len(self.places) < 2:
            self.refuse("A path needs two points.", "Click where it begins, and where it goes.")
            return
        places, self.places = np.array(self.places), []
        xy, depth = camera.project(places)
        if len(places) > 4 and (depth > 0).all():
            # what was drawn by hand needs few points, which can be dragged
            on = self.canvas.to_widget(xy).astype(np.float32)
            kept = cv2.approxPolyDP(on[:, None], SIMPLER_PX, False)[:, 0]
            places = places[[int(np.argmin(np.abs(on - q).sum(1))) for q in kept]]
        frame, normal = self.session.frame, self.normal
        self.session.edit("Lay the words on a path", lambda s: letters.with_path(s, title.id, frame, places, normal))

    # paint

    def paint(self, p: QPainter) -> None:
        title, camera = self.title(), self.canvas.camera()
        if camera is None:
            return
        p.setBrush(Qt.BrushStyle.NoBrush)
        if self.places and title is not None and title.id == self.of:
            line = [*self.places]
            if self.pointer is not None and not self.pressed and (to := self.on_plane(self.pointer, self.places[-1], self.normal)) is not None:
                line.append(to)
            self._paint_line(p, camera, path_line(tuple(np.array(line).ravel().tolist()))[0])
            self._paint_points(p, self.canvas.to_widget(camera.project(np.array(self.places))[0]))
        elif title is not None and title.path:
            m = pose_of(self.session.shot, title, self.session.frame)
            self._paint_line(p, camera, moved(m, path_line(title.path)[0]))
            self._paint_points(p, self._points_on_widget(title))

    def _paint_line(self, p: QPainter, camera, points: np.ndarray) -> None:
        xy, depth = camera.project(points)
        p.setPen(QPen(QColor(theme.ACCENT), 1.6))
        if (depth > 0.01).all():
            p.drawPolyline(drawing.polygon(self.canvas.to_widget(xy)))

    def _paint_points(self, p: QPainter, on: np.ndarray) -> None:
        p.setPen(QPen(QColor(theme.FIELD), 1))
        for k, (x, y) in enumerate(on):
            if np.isfinite(x):
                p.setBrush(QColor(theme.ACCENT if k in (self.held, self.marked) else "#FFFFFF"))
                p.drawEllipse(QPointF(x, y), 4.5, 4.5)
