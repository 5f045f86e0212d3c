"""The scene from outside: camera path and frustum, points, ground grid and objects. Left drag orbits, middle drag pans, wheel zooms."""

from collections.abc import Callable

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QAction, QActionGroup, QColor, QImage, QPainter, QPen, QPixmap
from PyQt6.QtWidgets import QButtonGroup, QHBoxLayout, QMenu, QToolButton, QWidget

from lodestar.core.basics.identity import Same
from lodestar.core.edits.arrange import corners_of
from lodestar.core.evaluate.cameras import camera_at
from lodestar.core.projection.camera import Camera
from lodestar.core.projection.pinhole import Lens

from .. import theme
from ..derived import path_of, points_of, reach_of
from ..measures import length
from ..pictures import Pictures, Request
from ..session import Session
from . import overlays
from .canvas import SOON_MS, STILL_MS
from .drawing import lines, polygon
from .tools.handles import MoveObject
from .tools.lamps import MoveLamp
from .tools.marks import Lasso, caught
from .tools.tool import Tool

VIEWS = {"Orbit": (-60.0, 28.0), "Top": (0.0, 90.0), "Side": (90.0, 0.0), "Front": (0.0, 0.0), "Camera": (0.0, 0.0)}
GRID = 15
MOST_AWAY_PX = 10_000  # from the corner of the view: what is farther off is not drawn
FLAT = 300.0  # times as far away and as long a lens: a view without perspective
FARS = {"all points": np.inf, "up to 4 × the path": 4.0, "up to 2 × the path": 2.0, "up to the path’s own size": 1.0}
REACH_PX, NAME_PX = 9.0, 15.0  # to a point, by the hand; between the times along a path


class SceneCanvas(QWidget):
    """An orbiting view; top, side and front are without perspective. Tools see it as they see the picture: a camera whose pixels
    are those of the widget."""

    picture_changed = pyqtSignal()
    missed = pyqtSignal()  # a click on nothing

    def __init__(self, session: Session, pictures: Pictures) -> None:
        super().__init__()
        self.session, self.pictures = session, pictures
        self.setObjectName("scene")
        self.setAccessibleName("Scene from outside")
        self.setToolTip(
            "Left drag orbits · middle drag pans · wheel zooms · F fits all, Shift F what is chosen · click chooses · Ctrl and drag a rectangle of points, Ctrl Alt a line round them"
        )
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMinimumSize(160, 90)
        self.view = "Orbit"
        self.heading, self.pitch = VIEWS["Orbit"]
        self.target, self.distance = np.zeros(3), 20.0
        self.colours = str(session.settings.value("scene/colours", "plate"))
        self.point_px = int(session.settings.value("scene/points", 2))
        self.far = "all points"
        self.scale = 1.0  # a px of its camera is one of the widget
        self.drawn = {"handles": True}
        self._press: QPointF | None = None
        self._last: QPointF | None = None
        self._fitted: object = None
        self._as_fitted: tuple = ()  # the view as it was fitted; while nobody moved it, another size fits it anew
        self._lasso = Lasso()
        self._solids: tuple[Request, QImage] | None = None
        self._in_tool: Tool | None = None  # what a drag goes to
        self._tints: tuple = ()
        self._kept: dict[str, tuple[tuple, QPixmap]] = {}
        self._still = QTimer(self, interval=STILL_MS, singleShot=True)
        self._still.timeout.connect(lambda: self.isVisible() and self._ask("final"))
        self._soon = QTimer(self, interval=SOON_MS, singleShot=True)
        self._soon.timeout.connect(self.update)
        self.tool = MoveObject(self)
        self.lamps = MoveLamp(self)
        self._make_row()
        pictures.made.connect(self._made)
        session.shot_changed.connect(self.refresh)
        session.view_changed.connect(self.refresh)
        session.frame_changed.connect(lambda _: self.refresh())

    def _make_row(self) -> None:
        row = QWidget(self)
        row.setObjectName("scene-row")
        row.setStyleSheet("#scene-row { background: transparent; }")
        line = QHBoxLayout(row)
        line.setContentsMargins(0, 0, 0, 0)
        line.setSpacing(0)
        self.views = QButtonGroup(self)
        for name in VIEWS:
            b = QToolButton(text=name, checkable=True, checked=name == self.view)
            b.setObjectName(f"look-{name.lower()}")
            b.setProperty("role", "segment")
            b.setToolTip("Through the solved camera of this frame" if name == "Camera" else f"Look from there: {name.lower()}")
            b.clicked.connect(lambda _, n=name: self.look(n))
            self.views.addButton(b)
            line.addWidget(b)
        points = QToolButton(text="Points")
        points.setObjectName("scene-points")
        points.setProperty("role", "menu")
        points.setToolTip("Colour and size of the points, and which far ones are left out")
        points.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        menu = QMenu(points)
        self._choices(menu, {"plate": "Coloured from the plate", "error": "Coloured by error"}, self.colours, lambda v: self._set("colours", v))
        menu.addSeparator()
        self._choices(menu, {k: f"{k} px" for k in (1, 2, 3, 5)}, self.point_px, lambda v: self._set("point_px", v))
        menu.addSeparator()
        self._choices(menu, {k: k[0].upper() + k[1:] for k in FARS}, self.far, lambda v: self._set("far", v))
        points.setMenu(menu)
        line.addWidget(points)
        self._row = row

    @staticmethod
    def _choices(menu: QMenu, names: dict, now, take) -> None:
        group = QActionGroup(menu)
        for value, text in names.items():
            action = QAction(text, menu, checkable=True, checked=value == now)
            action.setObjectName(f"points-{value}")
            action.triggered.connect(lambda _, v=value: take(v))
            group.addAction(action)
            menu.addAction(action)

    def _set(self, name: str, value) -> None:
        setattr(self, name, value)
        if name != "far":
            self.session.settings.setValue({"colours": "scene/colours", "point_px": "scene/points"}[name], value)
        self.update()

    def look(self, view: str) -> None:
        fitted, self.view = self._is_fitted(), view
        if view != "Camera":
            self.heading, self.pitch = VIEWS[view]
        self._checked()
        if fitted and view != "Camera":
            self.fit()
        else:
            self.refresh()

    def _is_fitted(self) -> bool:
        """Whether nobody moved the view since all was fitted into it."""
        return self._as_fitted == (self.view, self.heading, self.pitch, tuple(self.target), self.distance)

    def _checked(self) -> None:
        for b in self.views.buttons():
            b.setChecked(b.text() == self.view)

    # geometry, as tools need it

    def camera(self) -> Camera | None:
        size = min(self.width(), self.height()) * 1.1
        cx, cy = self.width() / 2, self.height() / 2
        shot = self.session.shot
        if self.view == "Camera" and shot.plate is not None:
            if shot.solve is not None and self.session.frame not in shot.solve.frames:
                return None
            own = camera_at(shot, self.session.frame)
            scale = min(self.width() / shot.plate.width, self.height() / shot.plate.height)
            return Camera(own.R, own.t, Lens(own.lens.fx * scale, own.lens.fx * scale, cx, cy))
        axes = self._axes()
        far = 1.0 if self.view in ("Orbit", "Camera") else FLAT
        centre = self.target - axes[2] * self.distance * far
        return Camera(axes, -axes @ centre, Lens(size * far, size * far, cx, cy))

    def to_widget(self, xy: np.ndarray) -> np.ndarray:
        return np.asarray(xy, float)

    def to_plate(self, at: QPointF) -> np.ndarray:
        return np.array([at.x(), at.y()])

    def _axes(self) -> np.ndarray:
        """(3, 3) rows: right, down, forward of the view."""
        h, e = np.deg2rad([self.heading, self.pitch])
        forward = np.array([-np.sin(h) * np.cos(e), np.cos(h) * np.cos(e), -np.sin(e)])
        right = np.array([np.cos(h), np.sin(h), 0.0])
        return np.stack([right, np.cross(forward, right), forward])

    def centres(self) -> np.ndarray:
        return path_of(self.session.shot)

    def near_points(self) -> np.ndarray:
        """(m,) bool: points that are not left out as too far."""
        if not len(points_of(self.session.shot)):
            return np.zeros(0, bool)
        away, size = reach_of(self.session.shot)
        return away <= FARS[self.far] * size

    def fit(self, chosen: bool = False) -> None:
        """Fit all: path, origin and the nearer points; or what is chosen, objects or points."""
        shot, points, centres = self.session.shot, points_of(self.session.shot), self.centres()
        parts = [corners_of(shot, o, self.session.frame) for o in shot.objects if not chosen or o.id in self.session.chosen_objects()]
        if chosen:
            solve = shot.solve
            if solve is not None and len(points) and self.session.tracks:
                parts.append(points[np.isin(solve.point_ids, list(self.session.tracks))])
        else:
            parts += [centres, np.zeros((1, 3))]
            if len(points):
                away = np.linalg.norm(points - centres.mean(0), axis=1)
                parts.append(points[away < np.percentile(away, 60)])
        everything = np.concatenate(parts) if parts else np.zeros((0, 3))
        if len(everything) == 0:
            self.session.tell("Nothing is chosen to fit to.", "Choose an object or points first, or fit all.", "doubtful")
            return
        if self.view == "Camera":
            self.look("Orbit")
        self.target = (everything.min(0) + everything.max(0)) / 2
        # the distance from which all of it lies within the view, its upper edge kept free for the buttons
        across, down, ahead = ((everything - self.target) @ self._axes().T).T
        size = min(self.width(), self.height()) * 1.1
        depth = ahead if self.view == "Orbit" else 0 * ahead
        room = 0.30 if chosen else 0.44
        apart = np.maximum(np.abs(across) * size / (room * self.width()), np.abs(down) * size / (room * (self.height() - 34)))
        self.distance = max(float((apart - depth).max()), 0.2)
        if not chosen:
            self._as_fitted = (self.view, self.heading, self.pitch, tuple(self.target), self.distance)
        self.refresh()

    # solids

    def refresh(self) -> None:
        if not self.isVisible():
            return
        shot = self.session.shot
        if shot.solve is not None and self._fitted is not shot.solve:
            self._fitted = shot.solve
            self.fit()
            return
        if self._ask("sketch"):
            self._still.start()
        else:
            self._solids = None
        if not self.session.dragging or self._solids is None:
            self.update()
        elif not self._soon.isActive():
            self._soon.start()  # else with the next picture of the solids, so that all turns together

    def _ask(self, quality: str) -> bool:
        """Ask for the solids as they are seen from here; False when there are none."""
        shot, camera = self.session.shot, self.camera()
        if shot.plate is None or camera is None or not any(o.drawn and o.visible for o in shot.objects):
            return False
        self.pictures.ask(Request(shot, self.session.frame, quality, 1.0, "scene", camera, (self.width(), self.height())))
        return True

    def showEvent(self, event) -> None:
        self.refresh()

    def resizeEvent(self, event) -> None:
        self._row.adjustSize()
        self._row.move(self.width() - self._row.width() - 4, 2)
        if self._fitted is not None and self._is_fitted():
            self.fit()
        else:
            self.refresh()

    def _made(self, request: Request, image: QImage) -> None:
        if request.layer == "scene":
            self._solids = (request, image)
            self.picture_changed.emit()
            self._soon.stop()
            self.update()

    # paint

    def paintEvent(self, event) -> None:
        p = QPainter(self)
        p.fillRect(self.rect(), QColor(theme.SCENE))
        shot, camera = self.session.shot, self.camera()
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        if camera is None:
            p.setPen(QColor(theme.QUIET))
            p.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, "This frame has no camera")
            return
        lens, ratio = camera.lens, self.devicePixelRatioF()
        seen = (Same(shot.solve), shot.ground, camera.R.tobytes(), camera.t.tobytes(), lens, self.width(), self.height(), ratio, theme.SCENE)
        look = (self.colours, self.point_px, self.far, self.session.tracks)

        def below(own: QPainter) -> None:
            self._paint_grid(own, camera)
            self._paint_points(own, camera)

        self._paint_kept(p, "below", (*seen, *look), below)
        if self._solids is not None and self._solids[0].shot.plate is shot.plate:
            p.drawImage(QRectF(self.rect()), self._solids[1])
        centres = self.centres()
        if len(centres) and self.view != "Camera":
            self._paint_kept(p, "path", seen, lambda own: self._paint_path(own, camera, centres))
            self._paint_camera(p, camera)
        self._paint_objects(p, camera)
        p.setFont(theme.font(12))
        p.setPen(QColor(theme.QUIET))
        if shot.solve is None:
            p.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, "The camera’s path and the points appear here after the solve")
        else:
            path = float(np.linalg.norm(np.diff(centres, axis=0), axis=1).sum())
            unit = self.session.unit
            words = f"{len(points_of(shot))} points · path {length(path, unit, 1)} · grid {length(1.0, unit.rstrip('s'), 'g')}"
            p.drawText(self.rect().adjusted(0, 0, -12, -6), Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignBottom, words)
        self._paint_axes(p)
        if self._with_tool():
            self.tool.paint(p)
        elif self._with_lamps():
            self.lamps.paint(p)
        self._lasso.paint(p)

    def _paint_kept(self, p: QPainter, what: str, key: tuple, paint: Callable[[QPainter], None]) -> None:
        """What is the same from frame to frame is painted once for each key: it takes two thirds of the time."""
        if self._kept.get(what, ((), None))[0] != key:
            pixmap = QPixmap(self.size() * self.devicePixelRatioF())
            pixmap.setDevicePixelRatio(self.devicePixelRatioF())
            pixmap.fill(Qt.GlobalColor.transparent)
            own = QPainter(pixmap)
            own.setRenderHint(QPainter.RenderHint.Antialiasing)
            paint(own)
            own.end()
            self._kept[what] = (key, pixmap)
        p.drawPixmap(0, 0, self._kept[what][1])

    def _with_tool(self) -> bool:
        return self.session.step in ("Place", "Light") and self.session.tool == "move"

    def _with_lamps(self) -> bool:
        return self.session.step == "Light" and self.session.tool == "lamp"

    def _paint_grid(self, p: QPainter, camera: Camera) -> None:
        p.setPen(QPen(theme.colour(theme.LINE, 0.8), 1))
        k = np.repeat(np.arange(-GRID, GRID + 1.0), 2).reshape(-1, 2)
        far = np.tile([-GRID, GRID], (len(k), 1)).astype(float)
        ends = np.concatenate([np.stack([k, far, 0 * k], -1), np.stack([far, k, 0 * k], -1)])
        # straight lines stay straight here, so two ends do, cut where they pass behind the view
        own = ends @ camera.R.T + camera.t
        near = 0.02 * self.distance
        a, b = own[:, 0], own[:, 1]
        share = np.clip((near - a[:, 2]) / np.where(np.abs(b[:, 2] - a[:, 2]) < 1e-9, 1e-9, b[:, 2] - a[:, 2]), 0, 1)[:, None]
        cut = a + share * (b - a)
        a, b = np.where(a[:, 2:] < near, cut, a), np.where(b[:, 2:] < near, cut, b)
        seen = (own[..., 2] > near).any(1)
        lens = camera.lens
        flat = lambda q: q[:, :2] / q[:, 2:] * lens.fx + [lens.cx, lens.cy]
        p.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        p.drawLines(lines(flat(a[seen]), flat(b[seen])))
        p.setRenderHint(QPainter.RenderHint.Antialiasing)

    def _paint_points(self, p: QPainter, camera: Camera) -> None:
        """Points straight into an image: thousands of painter calls would not keep up with an orbit."""
        points, solve = points_of(self.session.shot), self.session.shot.solve
        if solve is None or not len(points):
            return
        ratio = self.devicePixelRatioF()
        width, height = int(self.width() * ratio), int(self.height() * ratio)
        size = max(1, round(self.point_px * ratio))
        # by columns and in single precision, which is a quarter of the work; a view has no distortion
        across, down, depth = camera.R.astype(np.float32) @ points.T.astype(np.float32) + camera.t.astype(np.float32)[:, None]
        away = np.maximum(depth, np.float32(0.02 * self.distance))
        f, cx, cy = (np.float32(v * ratio) for v in (camera.lens.fx, camera.lens.cx, camera.lens.cy))
        x, y = across / away * f + cx, down / away * f + cy
        ok = (depth > 0.02 * self.distance) & (x >= 0) & (y >= 0) & (x < width - size - 1) & (y < height - size - 1) & self.near_points()
        pixels = np.zeros(height * width, np.uint32)
        order = np.flatnonzero(ok)
        order = order[np.argsort(-depth[order])]  # the nearest drawn last
        at = np.rint(y[order]).astype(np.int64) * width + np.rint(x[order]).astype(np.int64)
        tint = self._point_colours()[order]
        for dx in range(size):
            for dy in range(size):
                pixels[at + (dy * width + dx)] = tint
        p.drawImage(QRectF(self.rect()), QImage(pixels.data, width, height, 4 * width, QImage.Format.Format_ARGB32_Premultiplied))
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(QColor("#FFFFFF"))
        if self.session.tracks:
            for k in np.flatnonzero(ok & np.isin(solve.point_ids, list(self.session.tracks))):
                p.drawEllipse(QPointF(x[k] / ratio, y[k] / ratio), 4, 4)

    def _point_colours(self) -> np.ndarray:
        """(m,) 32-bit colours: from the plate, or by error where these are asked for or no colours are known."""
        solve = self.session.shot.solve
        if self._tints[:2] != (id(solve), self.colours):
            if self.colours == "plate" and len(solve.colours) == len(solve.point_ids):
                r, g, b = solve.colours.astype(np.uint32).T
            else:
                ramp = np.array([theme.error_colour(e).getRgb()[:3] for e in np.linspace(0.1, 0.9, 17)], np.uint32)
                r, g, b = ramp[np.clip(((solve.point_error - 0.1) / 0.05).astype(int), 0, 16)].T
            self._tints = (id(solve), self.colours, 0xFF000000 | r << 16 | g << 8 | b, solve)
        return self._tints[2]

    def _paint_path(self, p: QPainter, camera: Camera, centres: np.ndarray) -> None:
        xy, depth = camera.project(centres)
        p.setPen(QPen(QColor(theme.TEXT), 1.6))
        p.setBrush(Qt.BrushStyle.NoBrush)
        # what passes close by the eye lies a million px away, where a stroke takes half a second
        seen = (depth > 0.02 * self.distance) & (np.abs(xy) < MOST_AWAY_PX).all(1)
        for part in np.split(np.arange(len(xy)), np.flatnonzero(np.diff(seen)) + 1):
            if seen[part[0]]:
                # frames that fall on one px are one corner: a long path is a thousand of them, whose strokes take their time
                apart = np.r_[True, np.abs(np.diff(np.round(xy[part]), axis=0)).max(1) > 0]
                p.drawPolyline(polygon(xy[part[apart]]))
        shot, solve = self.session.shot, self.session.shot.solve
        fps = round(shot.plate.fps) if shot.plate else 25
        p.setFont(theme.font(11))
        # a tick for each fifth frame, across the path as it is seen; a longer one with its time for each second
        ticked = np.flatnonzero(seen & (solve.frames % 5 == 0))
        d = xy[np.minimum(ticked + 1, len(xy) - 1)] - xy[np.maximum(ticked - 1, 0)]
        second = solve.frames[ticked] % fps == 0
        reach = np.c_[-d[:, 1], d[:, 0]] / np.maximum(np.hypot(*d.T), 1e-6)[:, None] * np.where(second, 5.0, 2.5)[:, None]
        p.setPen(QPen(QColor(theme.TEXT), 1))
        if len(ticked):
            p.drawLines(lines(xy[ticked] - reach, xy[ticked] + reach))
        p.setPen(QColor(theme.QUIET))
        named = np.zeros((0, 2))
        for k, way in zip(ticked[second], reach[second], strict=True):
            # names that would lie on one another are left out, also where the path comes back
            if (np.hypot(*(named - xy[k]).T) > NAME_PX).all():
                named = np.vstack([named, xy[k]])
                p.drawText(QPointF(*(xy[k] + way * 2.6 + [-6, 4])), f"{solve.frames[k] // fps} s")

    def _paint_camera(self, p: QPainter, camera: Camera) -> None:
        """The solved camera of this frame, as a pyramid."""
        shot, solve = self.session.shot, self.session.shot.solve
        if self.session.frame not in solve.frames:
            return
        filmed = camera_at(shot, self.session.frame)
        w, h = solve.width, solve.height
        corners = filmed.rays(np.array([[0, 0], [w, 0], [w, h], [0, h]], float))
        corners = filmed.centre + corners / (corners @ filmed.R[2])[:, None] * 0.14 * self.distance
        apex, _ = camera.project(filmed.centre)
        base, depth = camera.project(corners)
        if (depth <= 0.02 * self.distance).any() or (np.abs([apex, *base]) > MOST_AWAY_PX).any():
            return
        p.setPen(QPen(QColor(theme.ACCENT), 1.2))
        p.setBrush(theme.colour(theme.ACCENT, 0.10))
        p.drawPolygon(polygon(base))
        for q in base:
            p.drawLine(QPointF(*apex), QPointF(*q))
        p.setBrush(QColor(theme.ACCENT))
        p.drawEllipse(QPointF(*apex), 3.5, 3.5)

    def _paint_objects(self, p: QPainter, camera: Camera) -> None:
        """Stand-ins as wire, anchors by their axes, and the name of each object."""
        shot, chosen = self.session.shot, self.session.chosen_objects()
        first, rest = list[tuple[QPointF, str, QColor]](), list[tuple[QPointF, str, QColor]]()
        for item in (item for item in shot.objects if item.visible):
            tint = QColor(theme.ACCENT if item.id in chosen else theme.TEXT)
            if not item.drawn and item.BODY:
                overlays.paint_wire(p, self, camera, shot, item, tint)
            xy, depth = camera.project(corners_of(shot, item, self.session.frame))
            if (depth > 0).all():
                (first if item.id in chosen else rest).append((QPointF(float(xy[:, 0].max()) + 6, float(xy[:, 1].min()) + 4), item.name, tint))
        overlays.paint_names(p, [*first, *rest])
        overlays.paint_anchors(p, self)

    def _paint_axes(self, p: QPainter) -> None:
        camera = self.camera()
        base = QPointF(30, self.height() - 26)
        p.setFont(theme.font(11))
        for k, (name, tint) in enumerate(zip("xyz", theme.AXES, strict=True)):
            d = camera.R[:2, k] * 20
            p.setPen(QPen(QColor(tint), 1.6))
            p.drawLine(base, base + QPointF(*d))
            p.drawText(base + QPointF(*(d * 1.35)) + QPointF(-3, 4), name)

    # mouse and keys

    def mousePressEvent(self, event) -> None:
        self.setFocus()
        self.session.set_dragging(True)
        self._press = self._last = event.position()
        if event.button() != Qt.MouseButton.LeftButton:
            return
        if self._with_tool():
            item = self.session.object()
            if (item is not None and self.tool._handle_at(item, event.position())) or self.tool.object_under(event.position()) is not None:
                self._in_tool = self.tool
                self.tool.press(event)
                return
        if self._with_lamps():
            self.lamps.press(event)
            if self.lamps.held is not None:
                self._in_tool = self.lamps
                return
        if event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self._lasso.begin(event)

    def mouseMoveEvent(self, event) -> None:
        if self._in_tool is not None:
            self._in_tool.move(event)
            return
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
            self._leave_camera()
            self.target = self.target - (axes[0] * d.x() + axes[1] * d.y()) * self.distance / size
        elif event.buttons() & Qt.MouseButton.LeftButton and (event.position() - self._press).manhattanLength() > 3:
            self._leave_camera()
            self.view = "Orbit"
            self.heading -= d.x() * 0.4
            self.pitch = float(np.clip(self.pitch + d.y() * 0.4, -89.9, 90))
            self._checked()
        self.refresh()

    def _leave_camera(self) -> None:
        if self.view == "Camera":
            self.view = "Orbit"
            self._checked()

    def mouseReleaseEvent(self, event) -> None:
        self.session.set_dragging(False)
        if self._in_tool is not None:
            held, self._in_tool = self._in_tool, None
            held.release(event)
            return
        shape = self._lasso.end() if self._lasso.line else None
        if shape is not None:
            self._choose_inside(shape, event.modifiers())
        elif self._press is not None and (event.position() - self._press).manhattanLength() < 4 and event.button() == Qt.MouseButton.LeftButton:
            self._choose(event.position(), event.modifiers())
        self._press = self._last = None

    def _seen(self) -> tuple[np.ndarray, np.ndarray]:
        """Where the points are in the widget, and which of them are to be seen."""
        points, camera = points_of(self.session.shot), self.camera()
        if not len(points) or camera is None:
            return np.zeros((0, 2)), np.zeros(0, bool)
        xy, depth = camera.project(points)
        return xy, (depth > 0) & self.near_points()

    def _choose_inside(self, shape, modifiers) -> None:
        xy, seen = self._seen()
        rows = np.flatnonzero(seen)
        rows = rows[caught(shape, xy[rows])]
        found = frozenset(int(i) for i in self.session.shot.solve.point_ids[rows]) if len(xy) else frozenset()
        add = bool(modifiers & Qt.KeyboardModifier.ShiftModifier)
        self.session.select(self.session.selected, self.session.tracks | found if add else found)

    def _choose(self, at: QPointF, modifiers) -> None:
        """A click takes the object under it, or else the point."""
        add = bool(modifiers & Qt.KeyboardModifier.ShiftModifier)
        under = self.tool.object_under(at)
        if under is not None:
            self.session.choose_object(under.id, add)
            self.session.show_step("Place")
            return
        xy, seen = self._seen()
        if not len(xy):
            self.missed.emit()
            return
        away = np.where(seen, np.linalg.norm(xy - [at.x(), at.y()], axis=1), np.inf)
        found = frozenset([int(self.session.shot.solve.point_ids[away.argmin()])]) if away.min() < REACH_PX else frozenset()
        if not found:
            self.missed.emit()
        self.session.select(self.session.selected, self.session.tracks ^ found if add else found)

    def wheelEvent(self, event) -> None:
        self._leave_camera()
        self.distance *= 1.15 ** (-event.angleDelta().y() / 120)
        self.refresh()

    def event(self, event) -> bool:
        if event.type() == event.Type.ShortcutOverride and self._in_tool is not None and self._in_tool.takes(event):
            event.accept()
            return True
        return super().event(event)

    def keyPressEvent(self, event) -> None:
        if not (self._with_tool() and self.tool.key(event)):
            super().keyPressEvent(event)
