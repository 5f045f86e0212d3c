"""The scene from outside: camera path and frustum, points, ground grid and titles. Left drag orbits, middle drag pans, wheel zooms."""

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QImage, QPainter, QPen
from PyQt6.QtWidgets import QWidget

from lodestar.core.compose.frame import camera_at, scene_frame, title_box, title_model

from .. import theme
from ..session import Session
from .overlays import polygon
from .tools.marks import Lasso, caught

VIEWS = {"Orbit": (-60.0, 28.0), "Top": (0.0, 90.0), "Side": (90.0, 0.0), "Front": (0.0, 0.0)}
GRID = 15
BOX_EDGES = [(0, 1), (2, 3), (4, 5), (6, 7), (0, 2), (1, 3), (4, 6), (5, 7), (0, 4), (1, 5), (2, 6), (3, 7)]


class SceneCanvas(QWidget):
    """An orbiting view; top, side and front are without perspective."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.setObjectName("scene")
        self.setAccessibleName("Scene from outside")
        self.setToolTip("Left drag orbits · middle drag pans · wheel zooms · F fits · click chooses a point, Ctrl and drag a rectangle of them")
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMinimumSize(160, 90)
        self.view = "Orbit"
        self.heading, self.pitch = VIEWS["Orbit"]
        self.target, self.distance = np.zeros(3), 20.0
        self._press: QPointF | None = None
        self._last: QPointF | None = None
        self._fitted: object = None
        self._lasso = Lasso()
        self._links: list[tuple[QRectF, str]] = []
        session.shot_changed.connect(self.update)
        session.view_changed.connect(self.update)
        session.frame_changed.connect(lambda _: self.update())

    def look(self, view: str) -> None:
        self.view = view
        self.heading, self.pitch = VIEWS[view]
        self.update()

    def _parts(self) -> tuple[np.ndarray, np.ndarray]:
        """Points and camera centres in the scene."""
        solve = self.session.shot.solve
        if solve is None:
            return np.zeros((0, 3)), np.zeros((0, 3))
        place = scene_frame(self.session.shot)
        return place.points(solve.xyz), place.points(solve.centres)

    def fit(self) -> None:
        points, centres = self._parts()
        near = points
        if len(points):
            away = np.linalg.norm(points - centres.mean(0), axis=1)
            near = points[away < np.percentile(away, 60)]
        everything = np.concatenate([near, centres, np.zeros((1, 3))])
        self.target = (everything.min(0) + everything.max(0)) / 2
        self.distance = max(float(np.linalg.norm(np.ptp(everything, axis=0))) * 0.8, 1e-3)
        self.update()

    def _axes(self) -> np.ndarray:
        """(3, 3) rows: right, down, forward of the view."""
        h, e = np.deg2rad([self.heading, self.pitch])
        forward = np.array([-np.sin(h) * np.cos(e), np.cos(h) * np.cos(e), -np.sin(e)])
        right = np.array([np.cos(h), np.sin(h), 0.0])
        return np.stack([right, np.cross(forward, right), forward])

    def project(self, points: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """(..., 3) to widget coordinates (..., 2) and depth."""
        axes = self._axes()
        inside = (np.asarray(points, float) - self.target) @ axes.T
        size = min(self.width(), self.height()) * 1.1
        depth = inside[..., 2] + self.distance
        scale = size / self.distance * np.ones_like(depth) if self.view != "Orbit" else size / np.maximum(depth, 1e-3 * self.distance)
        xy = inside[..., :2] * scale[..., None] + [self.width() / 2, self.height() / 2]
        return xy, depth if self.view == "Orbit" else np.ones_like(depth)

    def _line(self, p: QPainter, a: np.ndarray, b: np.ndarray) -> None:
        line = a + np.linspace(0, 1, 9)[:, None] * (np.asarray(b) - a)
        xy, depth = self.project(line)
        keep = depth > 0.02 * self.distance
        if keep.sum() > 1:
            p.drawPolyline(polygon(xy[keep]))

    def paintEvent(self, event) -> None:
        p = QPainter(self)
        p.fillRect(self.rect(), QColor(theme.SCENE))
        shot = self.session.shot
        if shot.solve is not None and self._fitted is not shot.solve:
            self._fitted = shot.solve
            self.fit()
        points, centres = self._parts()
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        self._paint_grid(p)
        if len(points):
            self._paint_points(p, points)
            self._paint_path(p, centres)
        self._paint_titles(p)
        p.setFont(theme.font(12))
        p.setPen(QColor(theme.QUIET))
        if shot.solve is None:
            p.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, "The camera's path and the points appear here after the solve")
        else:
            path = float(np.linalg.norm(np.diff(centres, axis=0), axis=1).sum())
            unit = "m" if shot.ground.distance else "units"
            p.drawText(QPointF(12, 20), f"{len(points)} points · path {path:.1f} {unit} · grid 1 {unit.rstrip('s')}")
        self._paint_links(p)
        self._paint_axes(p)
        self._lasso.paint(p)

    def _paint_grid(self, p: QPainter) -> None:
        p.setPen(QPen(theme.colour(theme.LINE, 0.8), 1))
        for k in range(-GRID, GRID + 1):
            self._line(p, np.array([k, -GRID, 0.0]), np.array([k, GRID, 0.0]))
            self._line(p, np.array([-GRID, k, 0.0]), np.array([GRID, k, 0.0]))

    def _paint_points(self, p: QPainter, points: np.ndarray) -> None:
        """Points straight into an image: thousands of painter calls would not keep up with an orbit."""
        xy, depth = self.project(points)
        ratio = self.devicePixelRatioF()
        width, height = int(self.width() * ratio), int(self.height() * ratio)
        at = np.round(xy * ratio).astype(int)
        ok = (depth > 0.02 * self.distance) & (at >= 1).all(1) & (at[:, 0] < width - 1) & (at[:, 1] < height - 1)
        pixels = np.zeros((height, width, 4), np.uint8)
        solve = self.session.shot.solve
        chosen = np.isin(solve.point_ids, list(self.session.tracks))
        tints = np.array([theme.error_colour(e).getRgb() for e in np.linspace(0.1, 0.9, 17)], np.uint8)[:, [2, 1, 0, 3]]
        tint = tints[np.clip(((solve.point_error - 0.1) / 0.05).astype(int), 0, 16)]
        x, y = at[ok].T
        size = max(1, round(1.5 * ratio))
        for dx in range(size):
            for dy in range(size):
                pixels[y + dy, x + dx] = tint[ok]
        p.drawImage(QRectF(self.rect()), QImage(pixels.data, width, height, 4 * width, QImage.Format.Format_ARGB32))
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(QColor("#FFFFFF"))
        for q in xy[ok & chosen]:
            p.drawEllipse(QPointF(*q), 4, 4)

    def _paint_path(self, p: QPainter, centres: np.ndarray) -> None:
        xy, depth = self.project(centres)
        p.setPen(QPen(QColor(theme.TEXT), 1.6))
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.drawPolyline(polygon(xy[depth > 0]))
        p.setBrush(QColor(theme.SCENE))
        p.setPen(QPen(QColor(theme.TEXT), 1))
        for q in xy[:: max(1, len(xy) // 6)]:
            p.drawEllipse(QPointF(*q), 2.2, 2.2)
        solve = self.session.shot.solve
        if self.session.frame not in solve.frames:
            return
        camera = camera_at(self.session.shot, self.session.frame)
        w, h = solve.width, solve.height
        reach = 0.14 * self.distance
        corners = camera.rays(np.array([[0, 0], [w, 0], [w, h], [0, h]], float))
        corners = camera.centre + corners / (corners @ camera.R[2])[:, None] * reach
        apex, _ = self.project(camera.centre)
        base, depth = self.project(corners)
        if (depth <= 0).any():
            return
        p.setPen(QPen(QColor(theme.ACCENT), 1.2))
        p.setBrush(theme.colour(theme.ACCENT, 0.10))
        p.drawPolygon(polygon(base))
        for q in base:
            p.drawLine(QPointF(*apex), QPointF(*q))
        p.setBrush(QColor(theme.ACCENT))
        p.drawEllipse(QPointF(*apex), 3.5, 3.5)

    def _paint_titles(self, p: QPainter) -> None:
        for title in self.session.shot.titles:
            if not title.visible or not title.text.strip():
                continue
            m, ends = title_model(title, self.session.frame), title_box(title, self.session.frame)
            corners = np.array([[ends[i][0], ends[j][1], ends[k][2]] for i in (0, 1) for j in (0, 1) for k in (0, 1)]) @ m[:3, :3].T + m[:3, 3]
            chosen = title.id == self.session.selected
            p.setPen(QPen(QColor(theme.ACCENT if chosen else theme.TEXT), 1.4 if chosen else 1))
            for a, b in BOX_EDGES:
                self._line(p, corners[a], corners[b])
            at, depth = self.project(corners[5])
            if depth > 0:
                p.setFont(theme.font(12))
                p.drawText(QPointF(at[0] + 6, at[1]), title.name)

    def _paint_links(self, p: QPainter) -> None:
        """The views to look from, at the right; the one in use is bright."""
        self._links = []
        x = self.width() - 12.0
        for name in reversed(VIEWS):
            p.setFont(theme.font(12, 600 if name == self.view else 400))
            width = p.fontMetrics().horizontalAdvance(name)
            x -= width
            p.setPen(QColor(theme.TEXT if name == self.view else theme.QUIET))
            p.drawText(QPointF(x, 20), name)
            self._links.append((QRectF(x - 6, 4, width + 12, 22), name))
            x -= 14

    def _paint_axes(self, p: QPainter) -> None:
        axes, base = self._axes(), QPointF(30, self.height() - 26)
        p.setFont(theme.font(11))
        for k, (name, tint) in enumerate(zip("xyz", theme.AXES, strict=True)):
            d = axes[:2, k] * 20
            p.setPen(QPen(QColor(tint), 1.6))
            p.drawLine(base, base + QPointF(*d))
            p.drawText(base + QPointF(*(d * 1.35)) + QPointF(-3, 4), name)

    def mousePressEvent(self, event) -> None:
        self.setFocus()
        for rect, name in self._links:
            if rect.contains(event.position()):
                self.look(name)
                return
        self._press = self._last = event.position()
        if event.button() == Qt.MouseButton.LeftButton and event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self._lasso.begin(event)

    def mouseMoveEvent(self, event) -> None:
        if self._last is None:
            return
        if self._lasso.line:
            self._lasso.go_on(event)
            self.update()
            return
        d = event.position() - self._last
        self._last = event.position()
        if event.buttons() & Qt.MouseButton.MiddleButton:
            axes, size = self._axes(), min(self.width(), self.height()) * 1.1
            self.target = self.target - (axes[0] * d.x() + axes[1] * d.y()) * self.distance / size
        elif event.buttons() & Qt.MouseButton.LeftButton:
            self.view = "Orbit"
            self.heading -= d.x() * 0.4
            self.pitch = float(np.clip(self.pitch + d.y() * 0.4, -89.9, 90))
        self.update()

    def mouseReleaseEvent(self, event) -> None:
        shape = self._lasso.end() if self._lasso.line else None
        if shape is not None:
            self._choose_inside(shape, event.modifiers())
        elif self._press is not None and (event.position() - self._press).manhattanLength() < 4:
            self._choose(event.position(), event.modifiers())
        self._press = self._last = None

    def _choose_inside(self, shape, modifiers) -> None:
        points, _ = self._parts()
        if not len(points):
            return
        xy, depth = self.project(points)
        inside = np.flatnonzero(depth > 0)
        inside = inside[caught(shape, xy[inside])]
        found = frozenset(int(i) for i in self.session.shot.solve.point_ids[inside])
        add = bool(modifiers & Qt.KeyboardModifier.ShiftModifier)
        self.session.select(self.session.selected, self.session.tracks | found if add else found)

    def _choose(self, at: QPointF, modifiers) -> None:
        points, _ = self._parts()
        if not len(points):
            return
        xy, depth = self.project(points)
        away = np.where(depth > 0, np.linalg.norm(xy - [at.x(), at.y()], axis=1), np.inf)
        found = frozenset([int(self.session.shot.solve.point_ids[away.argmin()])]) if away.min() < 9 else frozenset()
        add = bool(modifiers & Qt.KeyboardModifier.ShiftModifier)
        self.session.select(self.session.selected, self.session.tracks ^ found if add else found)

    def wheelEvent(self, event) -> None:
        self.distance *= 1.15 ** (-event.angleDelta().y() / 120)
        self.update()
