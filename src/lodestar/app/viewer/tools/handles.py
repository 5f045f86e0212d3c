"""Moving, turning and sizing objects by their handles, in the picture and in the scene alike."""

from collections.abc import Callable
from typing import NamedTuple

import msgspec
import numpy as np
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen

from lodestar.core.basics.geometry import turn_matrix, vector
from lodestar.core.edits.arrange import dropped, find, place_of, repivoted, stood, turn_of, with_pose
from lodestar.core.edits.sides import side_moved, to_the_ground
from lodestar.core.evaluate.kinds import kind_of
from lodestar.core.evaluate.objects import box_of, objects_at, pose_of
from lodestar.core.evaluate.pointing import hit
from lodestar.core.scene.poses import moved, size_of
from lodestar.core.shot.document import Shot
from lodestar.core.shot.objects import Object

from ... import theme
from ...derived import points_of
from ...measures import figure, length, shown
from .. import drawing
from . import grips
from .tool import NUMBER, REACH_PX, Tool
from .typing import TypeWords, title_under

SNAP_PX, SNAP_DEG, LEAST_REACH_PX, LEAST_DRAG_PX = 9.0, 15.0, 42.0, 4.0
SIDE_OFF_PX = 12.0  # a side's bar stands so far out of it, clear of what is there already
CORNER_SHARE = 0.04  # of an object's extent: so near to a side a picked pivot lies on it
PLANES = {"level": (0, 1), "upright": (0, 2)}  # axes of the object that span the plane of a handle


class Grip(NamedTuple):
    """An object in hand before it was dragged: place (3,) of its pivot, axes (3, 3), heading, pitch and roll, size, the normal (3,)
    of the plane in which it is dragged, and where in that plane it was taken, None where the pointer's ray misses it."""

    item: Object
    at: np.ndarray
    R: np.ndarray
    turn: tuple[float, float, float]
    size: float
    normal: np.ndarray
    grip: np.ndarray | None


class MoveObject(Tool):
    """Handles on the chosen object: arrows along its axes, squares for its planes, rings that turn and tilt it, the corner that
    sizes it, bars on the sides of a card, box or tube, and tabs that stand it up or lay it down and drop it. Shift snaps to 15
    degrees or the ground, Ctrl to points. Alt and click picks the pivot."""

    name, label, icon, tip = "move", "Move", "move-3d", "Move, turn and size: drag an object or its handles; arrow keys nudge"

    def __init__(self, canvas) -> None:
        super().__init__(canvas)
        self.held = self.id = ""
        self.picking: tuple[Object, QPointF] | None = None
        self.group: object = None
        self.start = QPointF()
        self._taken: tuple[Shot, tuple, Grip] | None = None
        self.nudged = np.zeros(3)

    def double(self, event) -> None:
        """On the letters of a title: typing begins there."""
        under = title_under(self.canvas, event.position())
        if under is not None and self.session.step == "Place":
            self.session.select(under.id)
            self.session.use_tool("type")
            if isinstance(self.canvas.tool, TypeWords) and not self.canvas.tool.tell_of_number(under):
                self.canvas.tool.begin(event.position())

    def hint(self) -> str:
        item = self.session.object()
        if item is None:
            return "Click an object to take it in hand · Shift and click takes several"
        return f"{item.name} · {self.state(item)} · arrow keys nudge · Alt and click picks the pivot"

    def state(self, item: Object) -> str:
        """What a drag does now, in words."""
        how, moves = self.session.how, bool(item.position.keys or item.turn.keys)
        if how == "key" or (moves and how == "here"):
            return f"a drag sets a key at frame {self.session.frame}" + (", with Alt it shifts the whole motion" if moves else "")
        return "a drag shifts the whole motion" if moves else "drag it or a handle"

    # geometry of the handles

    def handles(self, item: Object) -> dict[str, np.ndarray]:
        """Where each handle is in the scene: (3,)."""
        frame, shot = self.session.frame, self.session.shot
        m, at = pose_of(shot, item, frame), place_of(shot, item, frame)
        low, high = box_of(item, frame)
        R = m[:3, :3] / size_of(m)
        # as long in the view as the letters are high, but never lost
        camera = self.canvas.camera()
        px = float(camera.project(at)[1]) / camera.lens.fx / self.canvas.scale if camera is not None else 0.0
        reach = max(0.9 * float(high[2] - low[2]) * size_of(m), abs(px) * min(LEAST_REACH_PX, 0.12 * self.canvas.height()))
        spots = {
            "x": at + R[:, 0] * reach,
            "y": at + R[:, 1] * reach,
            "z": at + R[:, 2] * 1.5 * reach,
            "turn": at - R[:, 1] * reach * 1.6,
            "tilt": at + (R[:, 2] - R[:, 1]) * reach * 0.8,
            "level": at + (R[:, 0] + R[:, 1]) * 0.36 * reach,
            "upright": at + (R[:, 0] + R[:, 2]) * 0.36 * reach,
            "at": at,
        }
        if item.BODY:
            spots["size"] = moved(m, np.array([high[0], low[1], high[2]]))
            spots["drop"] = moved(m, np.array([low[0], low[1], low[2]]))
            spots["stand"] = moved(m, np.array([low[0], low[1], high[2]]))
        return spots

    def sides(self, item: Object) -> dict[str, tuple[np.ndarray, np.ndarray]]:
        """Of each side that can be dragged: where its bar is in the view, and the unit vector (2,) outward there."""
        m, found = pose_of(self.session.shot, item, self.session.frame), {}
        for name, side in kind_of(item).sides(item, self.session.frame).items():
            on, out = (self._on_widget(moved(m, at)) for at in (side.at, side.at + 0.05 * side.along))
            if on is None or out is None or np.hypot(*(out - on)) < 0.5:  # seen along its axis there is no way to drag it
                continue
            way = (out - on) / np.hypot(*(out - on))
            found[f"side {name}"] = on + SIDE_OFF_PX * way, way
        return found

    def _on_widget(self, point: np.ndarray) -> np.ndarray | None:
        camera = self.canvas.camera()
        if camera is None:
            return None
        xy, depth = camera.project(point)
        return self.canvas.to_widget(xy) if depth > 0.01 else None

    def _all_on_widget(self, points: dict[str, np.ndarray]) -> dict[str, np.ndarray]:
        """Where those of the points that lie before the camera are in the view."""
        camera = self.canvas.camera()
        if camera is None:
            return {}
        xy, depth = camera.project(np.array(list(points.values())))
        return {name: at for name, at, z in zip(points, self.canvas.to_widget(xy), depth, strict=True) if z > 0.01}

    def _above_ground(self, item: Object) -> bool:
        m = pose_of(self.session.shot, item, self.session.frame)
        return abs(float(moved(m, box_of(item, self.session.frame)[0])[2])) > 1e-6

    def _handle_at(self, item: Object, at: QPointF) -> str:
        best, name = REACH_PX + 2, ""
        spots = self._all_on_widget(self.handles(item)) | {name: on for name, (on, _) in self.sides(item).items()}
        for handle, on in spots.items():
            if handle == "at" or (handle == "drop" and not self._above_ground(item)):
                continue
            away = np.hypot(*(on - [at.x(), at.y()]))
            if away < best:
                best, name = away, handle
        return name

    def object_under(self, at: QPointF) -> Object | None:
        """The nearest object that covers the pointer, an anchor by its mark; where there is none, a title between whose letters it is."""
        shot, frame = self.session.shot, self.session.frame
        if self.canvas.camera() is None:
            return None
        for item in shot.objects:
            if not item.BODY and item.visible and not item.locked:
                on = self._on_widget(place_of(shot, item, frame))
                if on is not None and np.hypot(*(on - [at.x(), at.y()])) < REACH_PX:
                    return item
        # a ground that lies under all is taken last
        hits = [
            (not item.drawn, found[0], item) for item in objects_at(shot, frame) if not item.locked and (found := self._hit(item, at)) is not None
        ]
        return min(hits, key=lambda h: h[:2])[2] if hits else title_under(self.canvas, at)

    def _hit(self, item: Object, at: QPointF) -> tuple[float, np.ndarray] | None:
        camera = self.canvas.camera()
        return hit(self.session.shot, item, self.session.frame, camera, self.canvas.to_plate(at)) if camera is not None else None

    def _pick_pivot(self, item: Object, at: QPointF) -> None:
        """The point of the object under the pointer becomes its pivot, or a corner of it that is near."""
        found = self._hit(item, at)
        if found is None:
            self.refuse(f"The pointer is beside {item.name}.", "Alt and click a point of it: that becomes its pivot.")
            return
        low, high = box_of(item, self.session.frame)
        pivot = np.where(
            np.abs(found[1] - low) < CORNER_SHARE * (high - low), low, np.where(np.abs(found[1] - high) < CORNER_SHARE * (high - low), high, found[1])
        )
        self.session.edit("Pick pivot", lambda s: repivoted(s, item.id, vector(pivot)))

    # mouse

    def press(self, event) -> None:
        if event.button() != Qt.MouseButton.LeftButton:
            return
        item = self.session.object()
        if event.modifiers() & Qt.KeyboardModifier.AltModifier and item is not None and not item.locked and item.BODY:
            self.picking = item, event.position()  # unless it becomes a drag
        add = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        self.held = self._handle_at(item, event.position()) if item is not None and not item.locked else ""
        if not self.held:
            under = self.object_under(event.position())
            if self.picking is not None and under is not item:
                return
            self.session.choose_object(under.id if under else "", add)
            item, self.held = under, "body" if under and not add else ""
        if item is None or not self.held:
            return
        self._begin(item, event.position())
        if self.held in ("drop", "stand"):
            frame, how = self.session.frame, self.session.how
            if self.held == "drop":
                self.session.edit("Drop to the ground", lambda s: dropped(s, item.id, frame, how))
            else:
                upright = abs(turn_of(self.session.shot, item, frame)[1]) < 45
                self.session.edit("Lie down" if upright else "Stand up", lambda s: stood(s, item.id, frame, how, -90.0 if upright else 0.0))
            self.held = ""

    def _begin(self, item: Object, pointer: QPointF) -> None:
        self.group, self.typed, self.id, self.start = object(), "", item.id, pointer

    def _grip(self, shot: Shot) -> Grip:
        """What was taken in hand, in a shot as it was before the drag."""
        # the same for all of a drag, unless a job's result lands beneath it or the frame is left
        drag = self.group, self.id, self.session.frame
        if self._taken is None or self._taken[0] is not shot or self._taken[1] != drag:
            self._taken = shot, drag, self._gripped(shot, self.session.frame)
        return self._taken[2]

    def _gripped(self, shot: Shot, frame: int) -> Grip:
        item = find(shot, self.id)
        m, at = pose_of(shot, item, frame), place_of(shot, item, frame)
        R = m[:3, :3] / size_of(m)
        normal = self._normal(R)
        return Grip(item, at, R, turn_of(shot, item, frame), item.size.at(frame)[0], normal, self.on_plane(self.start, at, normal))

    def _normal(self, R: np.ndarray) -> np.ndarray:
        """The normal of the plane in which this drag moves, for an object with the axes R."""
        level = np.array([0, 0, 1.0])
        if self.held in PLANES:
            a, b = PLANES[self.held]
            return np.cross(R[:, a], R[:, b])
        if self.held == "tilt":
            return R[:, 0]
        if self.held == "turn":
            return R[:, 2] if abs(R[2, 2]) > 0.5 else level
        camera = self.canvas.camera()
        # the body moves over the ground; one that is seen from the side, or that hangs on a wall, in its own upright plane
        if camera is not None and abs(camera.rays(self.canvas.to_plate(self.start)) @ level) < 0.06:
            return R[:, 1]
        return level

    def _axis_shift(self, at: np.ndarray, axis: np.ndarray, pointer: QPointF) -> float:
        """How far along an axis through `at` the pointer was dragged, in scene units, by its picture."""
        a, b = self._on_widget(at), self._on_widget(at + axis)
        if a is None or b is None:
            return 0.0
        d = b - a
        return float(((pointer.x() - self.start.x()) * d[0] + (pointer.y() - self.start.y()) * d[1]) / max(d @ d, 1e-6))

    def move(self, event) -> None:
        self.pointer = event.position()
        if self.picking is not None and (self.pointer - self.picking[1]).manhattanLength() < LEAST_DRAG_PX:
            return
        self.picking = None
        item = next((o for o in self.session.shot.objects if o.id == self.id), None)
        if not self.held or item is None:
            self.canvas.update()
            return
        pointer, snap = event.position(), event.modifiers()
        if self.held in ("x", "y", "z"):
            number = "xyz".index(self.held)
            self._move_to(item, lambda g: g.at + g.R[:, number] * self._axis_shift(g.at, g.R[:, number], pointer), snap)
        elif self.held in ("turn", "tilt"):
            self._turn_to(item, lambda g: self._angle(g, pointer, snap))
        elif self.held == "size":
            self._size_to(item, lambda g: self._size(g, pointer))
        elif self.held.startswith("side "):
            ground = bool(snap & Qt.KeyboardModifier.ShiftModifier) and self.held == "side foot"
            self._side_to(item, lambda shot, g: self._side_by(shot, g, pointer, ground))
        else:

            def to(g: Grip) -> np.ndarray | None:
                now = self.on_plane(pointer, g.at, g.normal)
                return None if now is None or g.grip is None else g.at + now - g.grip

            self._move_to(item, to, snap)

    def _size(self, g: Grip, pointer: QPointF) -> float:
        base = self._on_widget(g.at)
        if base is None:
            return g.size
        ratio = np.hypot(pointer.x() - base[0], pointer.y() - base[1]) / max(np.hypot(self.start.x() - base[0], self.start.y() - base[1]), 1)
        return max(g.size * float(ratio), 0.01)

    def _side_by(self, shot: Shot, g: Grip, pointer: QPointF, ground: bool) -> float:
        """How far a side was dragged outward, in scene units; to the ground with Shift."""
        if ground and (by := to_the_ground(shot, g.item, self.session.frame)) is not None:
            return by
        side = kind_of(g.item).sides(g.item, self.session.frame)[self.held.removeprefix("side ")]
        m = pose_of(shot, g.item, self.session.frame)
        return self._axis_shift(moved(m, side.at), g.R @ side.along, pointer)

    def _angle(self, g: Grip, pointer: QPointF, modifiers) -> float | None:
        now = self.on_plane(pointer, g.at, g.normal)
        if now is None or g.grip is None:
            return None
        a, b = g.grip - g.at, now - g.at
        value = g.turn[self.held == "tilt"] + float(np.rad2deg(np.arctan2(np.cross(a, b) @ g.normal, a @ b)))
        return round(value / SNAP_DEG) * SNAP_DEG if modifiers & Qt.KeyboardModifier.ShiftModifier else value

    # what a drag does: each change is told from the grip on the shot as it was before the drag

    def _turn_to(self, item: Object, to: Callable[[Grip], float | None]) -> None:
        tilting = self.held == "tilt"

        def change(shot: Shot, g: Grip) -> Object:
            value = to(g)
            if value is None:
                return g.item
            heading, pitch, roll = g.turn
            R = turn_matrix((heading, value, roll) if tilting else (value, pitch, roll))
            return with_pose(shot, g.item, self.session.frame, self.session.how, R=R)

        self._edit(item, "Tilt" if tilting else "Turn", change)

    def _size_to(self, item: Object, to: Callable[[Grip], float]) -> None:
        frame, how = self.session.frame, self.session.how
        self._edit(item, "Size", lambda shot, g: msgspec.structs.replace(g.item, size=g.item.size.changed(frame, (to(g),), how)))

    def _side_to(self, item: Object, by: Callable[[Shot, Grip], float]) -> None:
        frame, how, name = self.session.frame, self.session.how, self.held.removeprefix("side ")
        self._edit(item, "Lengthen", lambda shot, g: side_moved(shot, g.item, frame, how, name, by(shot, g)))

    def _move_to(self, item: Object, to: Callable[[Grip], np.ndarray | None], modifiers=Qt.KeyboardModifier.NoModifier) -> None:
        level = modifiers & Qt.KeyboardModifier.ShiftModifier and self.held in ("z", "upright", "body")
        frame, how = self.session.frame, self.session.how

        def change(shot: Shot, g: Grip) -> Object:
            at = to(g)
            if at is None:
                return g.item
            at = at * [1, 1, 0] if level else at
            at = self._nearest_point(at) if modifiers & Qt.KeyboardModifier.ControlModifier else at
            return with_pose(shot, g.item, frame, how, at=at)

        self._edit(item, "Move", change)

    def _nearest_point(self, to: np.ndarray) -> np.ndarray:
        points, camera = points_of(self.session.shot), self.canvas.camera()
        on = self._on_widget(to)
        if not len(points) or on is None:
            return to
        xy, depth = camera.project(points)
        away = np.where(depth > 0, np.linalg.norm(self.canvas.to_widget(xy) - on, axis=1), np.inf)
        return points[away.argmin()] if away.min() < 2.5 * SNAP_PX else to

    def _edit(self, item: Object, label: str, change: Callable[[Shot, Grip], Object]) -> None:
        """One step of undo for the whole drag. A locked object stays; others that are chosen too go the same way."""
        frame, how = self.session.frame, self.session.how

        def edit(shot: Shot) -> Shot:
            grip = self._grip(shot)
            new = change(shot, grip)
            if new == grip.item:
                return shot
            fresh = {new.id: new}
            if label == "Move" and self.session.others:
                by = place_of(shot, new, frame) - grip.at
                for other in shot.objects:
                    if other.id in self.session.others and other.id != new.id and not other.locked:
                        fresh[other.id] = with_pose(shot, other, frame, how, at=place_of(shot, other, frame) + by)
            return msgspec.structs.replace(shot, objects=tuple(fresh.get(o.id, o) for o in shot.objects))

        self.session.edit(f"{label} {item.name}", edit, self.group)

    def release(self, event) -> None:
        if self.picking is not None:
            self._pick_pivot(*self.picking)
        self.picking = None
        self.held = self.id = ""
        self.session.history.close_group()
        self.canvas.update()

    def key(self, event) -> bool:
        item = self.session.object()
        if item is None or item.locked:
            return False
        if self.wants(event.text()) or (self.held and event.key() == Qt.Key.Key_Backspace):
            return self._type(item, event)
        steps = {Qt.Key.Key_Left: (-1, 0), Qt.Key.Key_Right: (1, 0), Qt.Key.Key_Up: (0, 1), Qt.Key.Key_Down: (0, -1)}
        if event.key() in steps and not event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self._nudge(item, steps[event.key()], event.modifiers())
            return True
        if event.key() in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace):
            self.session.delete_chosen()
            return True
        return False

    def _nudge(self, item: Object, step: tuple[int, int], modifiers) -> None:
        """A small step over the ground, or with Alt up and down; steps in a row of one choice of objects are one step of undo."""
        shot, frame = self.session.shot, self.session.frame
        low, high = box_of(item, frame)
        amount = 0.02 * max(float(high[2] - low[2]), 0.1) * (10 if modifiers & Qt.KeyboardModifier.ShiftModifier else 1)
        R = turn_matrix((turn_of(shot, item, frame)[0], 0.0, 0.0))
        by = amount * (step[0] * R[:, 0] + (np.array([0, 0, step[1]]) if modifiers & Qt.KeyboardModifier.AltModifier else step[1] * R[:, 1]))
        chosen = ("nudge", frame, *self.session.chosen_objects())
        if not self.session.history.goes_on(chosen):
            self.nudged = np.zeros(3)
        self.group, self.id, self.nudged = chosen, item.id, self.nudged + by
        total = self.nudged
        self._move_to(item, lambda g: g.at + total)

    def wants(self, text: str) -> bool:
        return bool(self.held and text and text in NUMBER)

    def _type(self, item: Object, event) -> bool:
        """A number typed while dragging sets it: a length along an arrow, of a side's own span, degrees on a ring, a factor on the corner."""
        self.typed = self.typed[:-1] if event.key() == Qt.Key.Key_Backspace else self.typed + event.text()
        number, long = self.number(), self.typed_length()
        if number is None or long is None:
            return True
        if self.held in ("turn", "tilt"):
            self._turn_to(item, lambda g: number)
        elif self.held == "size" and number > 0:
            self._size_to(item, lambda g: number)
        elif self.held in ("x", "y", "z"):
            axis = "xyz".index(self.held)
            self._move_to(item, lambda g: g.at + g.R[:, axis] * long)
        elif self.held.startswith("side ") and number > 0:
            self._side_to(item, lambda shot, g: (long - self._span(g.item)) * size_of(pose_of(shot, g.item, self.session.frame)))
        return True

    def _span(self, item: Object) -> float:
        """How long the object is along the side in hand, in metres."""
        side = kind_of(item).sides(item, self.session.frame)[self.held.removeprefix("side ")]
        return float(getattr(item, side.part).at(self.session.frame)[side.component])

    # paint

    def paint(self, p: QPainter) -> None:
        camera, session = self.canvas.camera(), self.session
        if camera is None or not self.canvas.drawn["handles"] or session.playing:  # what plays is looked at
            return
        for other in session.shot.objects:
            if other.id in session.others:
                grips.paint_foot(p, self.canvas, camera, session.shot, other, session.frame)
        item = session.object()
        if item is None:
            return
        grips.paint_foot(p, self.canvas, camera, session.shot, item, session.frame)
        handles = self.handles(item)
        on = self._all_on_widget(handles)
        if "at" not in on:
            return
        base = on["at"]
        for name, tint in zip("xyz", theme.AXES, strict=True):
            grips.paint_arrow(p, base, on.get(name), tint, self.held == name)
        for name, tint in zip(PLANES, (theme.AXES[2], theme.AXES[1]), strict=True):
            grips.paint_spot(p, on.get(name), tint, 4.0, True, self.held == name)
        for name, tint in (("turn", theme.AXES[2]), ("tilt", theme.AXES[0])):
            grips.paint_ring(p, self.canvas, camera, handles["at"], handles[name], self._ring_normal(name), tint, self.held == name)
            grips.paint_spot(p, on.get(name), tint, 5.0, False, self.held == name)
        p.setPen(QPen(QColor(theme.FIELD), 1))
        p.setBrush(QColor("#FFFFFF"))
        p.drawEllipse(QPointF(*base), 4.5, 4.5)
        if "size" in handles:
            grips.paint_spot(p, on.get("size"), "#FFFFFF", 4.0, True, self.held == "size")
            grips.paint_tab(p, on.get("stand"), "rotate-3d")
            if self._above_ground(item):
                grips.paint_tab(p, on.get("drop"), "arrow-down-to-line")
        for name, (at, way) in self.sides(item).items():
            grips.paint_bar(p, at, way, self.held == name)
        if not self.held:
            grips.paint_slip(p, self.canvas, item)
        if self.held and self.pointer is not None:
            drawing.tag(
                p, self.pointer + QPointF(16, 12), [self._words(item), self.state(item) if item.position.keys or session.how == "key" else ""]
            )

    def _ring_normal(self, name: str) -> np.ndarray:
        m = pose_of(self.session.shot, self.session.object(), self.session.frame)
        R = m[:3, :3] / size_of(m)
        if name == "tilt":
            return R[:, 0]
        return R[:, 2] if abs(R[2, 2]) > 0.5 else np.array([0, 0, 1.0])

    def _words(self, item: Object) -> str:
        shot, frame = self.session.shot, self.session.frame
        if self.held in ("turn", "tilt"):
            return f"{figure(turn_of(shot, item, frame)[self.held == 'tilt'], 1)}°"
        if self.held == "size":
            return f"× {figure(item.size.at(frame)[0], 2)}"
        if self.held.startswith("side "):
            return length(self._span(item), self.session.unit)
        name, of = shown(self.session.unit)
        return " · ".join(figure(v / of, 2) for v in place_of(shot, item, frame)) + f" {name}"
