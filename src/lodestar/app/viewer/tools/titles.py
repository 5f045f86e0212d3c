"""Placing titles on the surface under the pointer, and moving, turning and sizing them."""

import msgspec
import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen

from lodestar.core.basics.geometry import meet_plane, turn_matrix
from lodestar.core.compose.frame import mesh_of, scene_frame, slip_at, title_box, title_model
from lodestar.core.scene.surfaces import Patch, patch_under
from lodestar.core.shot.document import Title
from lodestar.core.shot.keyed import constant

from ... import theme
from .. import overlays
from .tool import NUMBER, REACH_PX, Tool, new_id


class PlaceTitle(Tool):
    """Shows the surface under the pointer; a click stands a title there, upright on its base line."""

    name, label, icon, tip = "title", "Title", "type", "Point at a surface and click: a title stands there"

    def hint(self) -> str:
        return "Click where the title shall stand"

    def patch(self) -> Patch | None:
        camera = self.canvas.camera()
        if self.pointer is None or camera is None:
            return None
        pixel = self.canvas.to_plate(self.pointer)
        solve = self.session.shot.solve
        if solve is not None and solve.motion == "free":
            points = scene_frame(self.session.shot).points(solve.xyz)
            found = patch_under(camera, pixel, points, lambda at: slip_at(self.session.shot, at))
            if found is not None:
                return found
        ray = camera.rays(pixel)
        distance = float(meet_plane(camera.centre, ray, np.zeros(3), np.array([0, 0, 1.0])))
        if not np.isfinite(distance) or distance > 200:
            return None
        return Patch(camera.centre + distance * ray, np.array([0, 0, 1.0]), np.zeros(0, int), 0.0, np.nan)

    def release(self, event) -> None:
        self.pointer = event.position()
        if event.button() != Qt.MouseButton.LeftButton:
            return
        patch = self.patch()
        if patch is None:
            self.session.tell("There is no surface under the pointer.", "Point at the ground or at a wall where tracks are.", "doubtful")
            return
        title = self._standing(patch)
        self.session.edit(f"Place {title.name}", lambda s: msgspec.structs.replace(s, titles=(*s.titles, title)))
        self.session.select(title.id)
        self.session.use_tool("move")

    def _standing(self, patch: Patch) -> Title:
        camera = self.canvas.camera()
        to = patch.centre - camera.centre
        distance = float(np.linalg.norm(to))
        wall = abs(patch.normal[2]) < 0.5
        facing = -patch.normal if wall else to
        heading = float(np.rad2deg(-np.arctan2(facing[0], facing[1])))
        height = float(f"{distance * 0.12:.2g}")
        depth = round(height * 0.3, 3)
        at = patch.centre + (patch.normal * depth / 2 if wall else 0)
        if not wall and abs(patch.normal[2]) > 0.99 and abs(at[2]) < 0.03 * distance:
            at = np.array([at[0], at[1], 0.0])
        return Title(id=new_id(), text="TITLE", height=constant(height), depth=constant(depth), bevel=constant(round(height * 0.02, 4)),
                     position=constant(*np.round(at, 4)), turn=constant(round(heading, 1), 0, 0))  # fmt: skip

    def paint(self, p: QPainter) -> None:
        patch = self.patch()
        camera = self.canvas.camera()
        if patch is None or camera is None or self.pointer is None:
            return
        x = np.cross([0, 0, 1.0] if abs(patch.normal[2]) < 0.9 else [0, 1.0, 0], patch.normal)
        x /= np.linalg.norm(x)
        y = np.cross(patch.normal, x)
        size = 0.05 * float(np.linalg.norm(patch.centre - camera.centre))
        corner = lambda i, j: patch.centre + size * (i / 2 * x + j / 2 * y)
        p.setPen(QPen(QColor(theme.ACCENT), 1.2))
        outline = [camera.project(corner(i, j))[0] for i, j in ((-2, -2), (2, -2), (2, 2), (-2, 2))]
        p.setBrush(theme.colour(theme.ACCENT, 0.16))
        p.drawPolygon(overlays.polygon(self.canvas.to_widget(np.array(outline))))
        for k in range(-2, 3):
            for a, b in ((corner(k, -2), corner(k, 2)), (corner(-2, k), corner(2, k))):
                p.drawPolyline(overlays.polygon(self.canvas.to_widget(overlays.project_line(camera, a, b, 6))))
        stalk = overlays.project_line(camera, patch.centre, patch.centre + patch.normal * size * 1.4, 6)
        p.drawPolyline(overlays.polygon(self.canvas.to_widget(stalk)))
        solve = self.session.shot.solve
        if len(patch.rows) and solve is not None:
            xy, _ = camera.project(scene_frame(self.session.shot).points(solve.xyz[patch.rows]))
            p.setPen(Qt.PenStyle.NoPen)
            p.setBrush(QColor(theme.RAMP[0][1]))
            for at in self.canvas.to_widget(xy):
                p.drawEllipse(QPointF(*at), 2.2, 2.2)
        overlays.tag(p, self.pointer + QPointF(-40, 34), [self._words(patch)])

    def _words(self, patch: Patch) -> str:
        if not len(patch.rows):
            return "level ground · no points near"
        metres = self.session.shot.ground.distance is not None
        flat = f"{patch.flatness * 1000:.0f} mm" if metres else f"{patch.flatness:.3f} units"
        slides = f" · slip {max(patch.slip_px, 0.1):.1f} px" if np.isfinite(patch.slip_px) else ""
        return f"{len(patch.rows)} points · flat to {flat}{slides}"


class MoveTitle(Tool):
    """Handles on the chosen title: arrows along the axes, the ring that turns, the square that sizes, the tab that drops."""

    name, label, icon, tip = "move", "Move and turn", "move-3d", "Drag the title or its handles; arrow keys nudge"

    def __init__(self, canvas) -> None:
        super().__init__(canvas)
        self.held = ""
        self.group: object = None
        self.from_: dict = {}
        self.typed = ""

    def hint(self) -> str:
        title = self.session.title()
        if title is None:
            return "Click a title to take it in hand"
        keying = (
            "drags set keys here" if self.session.keying else "drags move the whole motion" if title.position.keys else "drag the letters or a handle"
        )
        return f"{title.name} · {keying} · arrow keys nudge"

    # geometry of the handles

    def handles(self, title: Title) -> dict[str, np.ndarray]:
        """Where each handle is in the scene: (3,)."""
        frame = self.session.frame
        at = np.array(title.position.at(frame))
        m = title_model(title, frame)
        unit = np.linalg.norm(m[:3, 0])
        low, high = title_box(title, frame)
        reach = 0.9 * float(title.height.at(frame)[0]) * title.size.at(frame)[0]
        R = m[:3, :3] / max(unit, 1e-9)
        return {"x": at + R[:, 0] * reach, "y": at + R[:, 1] * reach, "z": at + np.array([0, 0, 1.5 * reach]), "turn": at - R[:, 1] * reach * 1.6,
                "size": m[:3, :3] @ np.array([high[0], low[1], high[2]]) + at, "drop": m[:3, :3] @ np.array([low[0], low[1], 0]) + at, "at": at}  # fmt: skip

    def _on_widget(self, point: np.ndarray) -> np.ndarray | None:
        camera = self.canvas.camera()
        if camera is None:
            return None
        xy, depth = camera.project(point)
        return self.canvas.to_widget(xy) if depth > 0.01 else None

    def _handle_at(self, title: Title, at: QPointF) -> str:
        best, name = REACH_PX + 2, ""
        for handle, point in self.handles(title).items():
            on = self._on_widget(point)
            if on is None or (handle == "drop" and abs(title.position.at(self.session.frame)[2]) < 1e-6) or handle == "at":
                continue
            away = np.hypot(*(on - [at.x(), at.y()]))
            if away < best:
                best, name = away, handle
        return name

    def title_under(self, at: QPointF) -> Title | None:
        """The nearest title whose letters cover the pointer."""
        camera = self.canvas.camera()
        if camera is None:
            return None
        pixel, found = self.canvas.to_plate(at), []
        for title in self.session.shot.titles:
            if not title.visible or title.locked:
                continue
            m, mesh = title_model(title, self.session.frame), mesh_of(title, self.session.frame)
            if len(mesh.vertices) == 0:
                continue
            xy, depth = camera.project(mesh.vertices @ m[:3, :3].T + m[:3, 3])
            corners = xy[mesh.triangles]
            near = (corners.min(1) <= pixel).all(1) & (corners.max(1) >= pixel).all(1) & (depth[mesh.triangles].min(1) > 0)
            a, b, c = (corners[near][:, k] for k in range(3))
            side = lambda p, q: (q[:, 0] - p[:, 0]) * (pixel[1] - p[:, 1]) - (q[:, 1] - p[:, 1]) * (pixel[0] - p[:, 0])
            s = np.stack([side(a, b), side(b, c), side(c, a)])
            hit = (s >= 0).all(0) | (s <= 0).all(0)
            if hit.any():
                found.append((float(depth[mesh.triangles[near][hit]].min()), title))
        return min(found, key=lambda f: f[0])[1] if found else None

    # mouse

    def press(self, event) -> None:
        if event.button() != Qt.MouseButton.LeftButton:
            return
        title = self.session.title()
        self.held = self._handle_at(title, event.position()) if title is not None and not title.locked else ""
        if not self.held:
            under = self.title_under(event.position())
            self.session.select(under.id if under else "")
            title, self.held = under, "ground" if under else ""
        if title is None or not self.held:
            return
        frame = self.session.frame
        self.group, self.typed = object(), ""
        at = np.array(title.position.at(frame))
        self.from_ = {"id": title.id, "position": at, "turn": title.turn.at(frame), "size": title.size.at(frame)[0], "pointer": event.position(),
                      "ground": self._ground_at(event.position(), at[2])}  # fmt: skip
        if self.held == "drop":
            self._set(title, "Drop to the ground", position=(at[0], at[1], 0.0))
            self.held = ""

    def _ground_at(self, at: QPointF, height: float) -> np.ndarray | None:
        camera = self.canvas.camera()
        if camera is None:
            return None
        ray = camera.rays(self.canvas.to_plate(at))
        distance = float(meet_plane(camera.centre, ray, np.array([0, 0, height]), np.array([0, 0, 1.0])))
        return camera.centre + distance * ray if np.isfinite(distance) and distance < 1e4 else None

    def _axis_shift(self, axis: np.ndarray, at: QPointF) -> float:
        """How far along an axis the pointer was dragged, in scene units, by its picture."""
        a, b = self._on_widget(self.from_["position"]), self._on_widget(self.from_["position"] + axis)
        if a is None or b is None:
            return 0.0
        d = b - a
        start = self.from_["pointer"]
        return float(((at.x() - start.x()) * d[0] + (at.y() - start.y()) * d[1]) / max(d @ d, 1e-6))

    def move(self, event) -> None:
        self.pointer = event.position()
        title = next((t for t in self.session.shot.titles if t.id == self.from_.get("id")), None)
        if not self.held or title is None:
            self.canvas.update()
            return
        at = event.position()
        R = turn_matrix(self.from_["turn"])
        if self.held in ("x", "y", "z"):
            axis = np.array([0, 0, 1.0]) if self.held == "z" else R[:, "xy".index(self.held)]
            self._move_to(title, self.from_["position"] + axis * self._axis_shift(axis, at))
        elif self.held == "ground":
            now = self._ground_at(at, self.from_["position"][2])
            if now is not None and self.from_["ground"] is not None:
                self._move_to(title, self.from_["position"] + now - self.from_["ground"])
        elif self.held == "turn":
            now = self._ground_at(at, self.from_["position"][2])
            if now is not None:
                d = now - self.from_["position"]
                heading = float(np.rad2deg(np.arctan2(d[0], -d[1])))
                if event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
                    heading = round(heading / 15) * 15
                self._set(title, f"Turn {title.name}", turn=(heading, *self.from_["turn"][1:]))
        elif self.held == "size":
            base = self._on_widget(self.from_["position"])
            if base is not None:
                start = self.from_["pointer"]
                ratio = np.hypot(at.x() - base[0], at.y() - base[1]) / max(np.hypot(start.x() - base[0], start.y() - base[1]), 1)
                self._set(title, f"Size {title.name}", size=(max(self.from_["size"] * ratio, 0.01),))
        self.canvas.update()

    def _move_to(self, title: Title, to: np.ndarray) -> None:
        self._set(title, f"Move {title.name}", position=tuple(float(v) for v in to))

    def _set(self, title: Title, label: str, **values) -> None:
        frame, keying = self.session.frame, self.session.keying
        fields = {name: getattr(title, name).changed(frame, value, keying) for name, value in values.items()}
        self.session.edit_item(label, "titles", title.id, self.group, **fields)

    def release(self, event) -> None:
        self.held = ""
        self.from_ = {}
        self.session.history.close_group()
        self.canvas.update()

    def key(self, event) -> bool:
        title = self.session.title()
        if title is None:
            return False
        if self.wants(event.text()) or (self.held and event.key() == Qt.Key.Key_Backspace):
            return self._type(title, event)
        steps = {Qt.Key.Key_Left: (-1, 0), Qt.Key.Key_Right: (1, 0), Qt.Key.Key_Up: (0, 1), Qt.Key.Key_Down: (0, -1)}
        if event.key() in steps and not event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            amount = 0.02 * title.height.at(self.session.frame)[0] * (10 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1)
            R = turn_matrix(title.turn.at(self.session.frame))
            dx, dy = steps[event.key()]
            self.group = ("nudge", title.id)
            self._move_to(title, np.array(title.position.at(self.session.frame)) + amount * (dx * R[:, 0] + dy * R[:, 1]))
            return True
        if event.key() in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace):
            remove_title(self.session, title.id)
            return True
        return False

    def wants(self, text: str) -> bool:
        return bool(self.held and text and text in NUMBER)

    def _type(self, title: Title, event) -> bool:
        """A number typed while dragging sets it: metres along an arrow, degrees on the ring, a factor on the square."""
        self.typed = self.typed[:-1] if event.key() == Qt.Key.Key_Backspace else self.typed + event.text()
        try:
            number = float(self.typed)
        except ValueError:
            return True
        if self.held == "turn":
            self._set(title, f"Turn {title.name}", turn=(number, *self.from_["turn"][1:]))
        elif self.held == "size" and number > 0:
            self._set(title, f"Size {title.name}", size=(number,))
        elif self.held in ("x", "y", "z"):
            axis = np.array([0, 0, 1.0]) if self.held == "z" else turn_matrix(self.from_["turn"])[:, "xy".index(self.held)]
            self._move_to(title, self.from_["position"] + axis * number)
        return True

    def paint(self, p: QPainter) -> None:
        title, camera = self.session.title(), self.canvas.camera()
        if title is None or camera is None or not self.canvas.show["handles"]:
            return
        frame = self.session.frame
        self._paint_footprint(p, title, camera)
        handles = self.handles(title)
        base = self._on_widget(handles["at"])
        if base is None:
            return
        for name, tint in zip("xyz", theme.AXES, strict=True):
            end = self._on_widget(handles[name])
            if end is None:
                continue
            p.setPen(QPen(QColor(tint), 3 if self.held == name else 2))
            p.drawLine(QPointF(*base), QPointF(*end))
            d = (end - base) / max(np.hypot(*(end - base)), 1)
            side = np.array([-d[1], d[0]])
            p.setPen(Qt.PenStyle.NoPen)
            p.setBrush(QColor(tint))
            p.drawPolygon(overlays.polygon(np.array([end + 5 * d, end - 4 * d + 4 * side, end - 4 * d - 4 * side])))
        self._paint_ring(p, title, camera, handles)
        p.setPen(QPen(QColor(theme.FIELD), 1))
        p.setBrush(QColor("#FFFFFF"))
        p.drawEllipse(QPointF(*base), 4.5, 4.5)
        size = self._on_widget(handles["size"])
        if size is not None:
            p.drawRect(QRectF(size[0] - 4, size[1] - 4, 8, 8))
        drop = self._on_widget(handles["drop"])
        if drop is not None and abs(title.position.at(frame)[2]) > 1e-6:
            p.setBrush(QColor(theme.FIELD))
            p.drawRoundedRect(QRectF(drop[0] - 10, drop[1] - 10, 20, 20), 4, 4)
            p.drawPixmap(QPointF(drop[0] - 7, drop[1] - 7), theme.icon_pixmap("arrow-down-to-line", theme.TEXT, 14))
        if self.held and self.pointer is not None:
            overlays.tag(p, self.pointer + QPointF(16, 12), [self._words(title)])

    def _words(self, title: Title) -> str:
        frame = self.session.frame
        if self.held == "turn":
            return f"{title.turn.at(frame)[0]:.1f}°"
        if self.held == "size":
            return f"× {title.size.at(frame)[0]:.2f}"
        return " · ".join(f"{v:.2f}" for v in title.position.at(frame)) + (" · key here" if self.session.keying else "")

    def _paint_footprint(self, p: QPainter, title: Title, camera) -> None:
        m = title_model(title, self.session.frame)
        low, high = title_box(title, self.session.frame)
        corners = np.array([[low[0], low[1], 0], [high[0], low[1], 0], [high[0], high[1], 0], [low[0], high[1], 0]]) @ m[:3, :3].T + m[:3, 3]
        p.setPen(QPen(QColor(theme.ACCENT), 1.4))
        p.setBrush(Qt.BrushStyle.NoBrush)
        for a, b in zip(corners, np.roll(corners, -1, 0), strict=True):
            line = overlays.project_line(camera, a, b)
            if len(line) > 1:
                p.drawPolyline(overlays.polygon(self.canvas.to_widget(line)))

    def _paint_ring(self, p: QPainter, title: Title, camera, handles) -> None:
        at, grip = handles["at"], handles["turn"]
        radius = np.hypot(*(grip - at)[:2])
        middle = np.arctan2((grip - at)[1], (grip - at)[0])
        around = middle + np.deg2rad(np.linspace(-50, 50, 31))
        ring = np.stack([at[0] + radius * np.cos(around), at[1] + radius * np.sin(around), np.full(31, at[2])], 1)
        xy, depth = camera.project(ring)
        p.setPen(QPen(QColor(theme.AXES[2]), 2.4 if self.held == "turn" else 1.8))
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.drawPolyline(overlays.polygon(self.canvas.to_widget(xy[depth > 0.01])))
        on = self._on_widget(grip)
        if on is not None:
            p.setPen(QPen(QColor(theme.FIELD), 1))
            p.setBrush(QColor(theme.AXES[2]))
            p.drawEllipse(QPointF(*on), 5, 5)


def remove_title(session, id_: str) -> None:
    session.edit("Delete title", lambda s: msgspec.structs.replace(s, titles=tuple(t for t in s.titles if t.id != id_)))
