"""Drawing and changing closed outlines: mattes, and regions that the tracker must not see."""

import msgspec
import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen

from lodestar.core.basics.keyed import Key, Keyed
from lodestar.core.edits.arrange import new_id
from lodestar.core.evaluate.carrying import outline_at
from lodestar.core.matte.outline import smooth_line
from lodestar.core.matte.sources import Outline

from ... import theme
from .. import overlays
from .tool import REACH_PX, Tool


class DrawOutline(Tool):
    """Draws a closed outline point by point, and changes the chosen one; at each frame where it is changed it gets a key."""

    kind = "mattes"
    noun = "matte"

    def __init__(self, canvas) -> None:
        super().__init__(canvas)
        self.points: list[np.ndarray] = []
        self.held: int | str | None = None
        self.start: np.ndarray | None = None
        self.shape: np.ndarray | None = None
        self.group: object = None
        self.marked: int | None = None

    def hint(self) -> str:
        if self.points:
            return "Click adds a corner · click the first one or press Enter to close · Backspace takes the last back · Escape drops it"
        if self.current() is not None:
            return "Drag corners or the whole · double click on the line adds a corner · Delete takes one away · click outside lets it go"
        return (
            "Click corner after corner round what passes in front"
            if self.kind == "mattes"
            else "Click corner after corner round what the tracker must not see"
        )

    def items(self) -> tuple[Outline, ...]:
        return tuple(o for o in getattr(self.session.shot, self.kind) if isinstance(o, Outline))

    def current(self) -> Outline | None:
        return next((o for o in self.items() if o.id == self.session.selected), None)

    def corners(self) -> np.ndarray:
        outline = self.current()
        return outline_at(self.session.shot, outline, self.session.frame) if outline else np.zeros((0, 2))

    def _hit(self, at: QPointF) -> int | str | None:
        corners = self.canvas.to_widget(self.corners())
        if len(corners) == 0:
            return None
        away = np.linalg.norm(corners - [at.x(), at.y()], axis=1)
        if away.min() < REACH_PX:
            return int(away.argmin())
        inside = overlays.polygon(self.canvas.to_widget(smooth_line(self.corners()))).containsPoint(at, Qt.FillRule.OddEvenFill)
        return "whole" if inside else None

    def press(self, event) -> None:
        if event.button() != Qt.MouseButton.LeftButton:
            return
        at = self.canvas.to_plate(event.position())
        if self.points:
            first = self.canvas.to_widget(self.points[0])
            if len(self.points) > 2 and np.hypot(*(first - [event.position().x(), event.position().y()])) < REACH_PX:
                self.close()
            elif np.hypot(*(self.canvas.to_widget(self.points[-1]) - [event.position().x(), event.position().y()])) >= 1:
                self.points.append(at)  # the second press of a double click is no corner of its own
            self.canvas.update()
            return
        self.held = self._hit(event.position())
        self.marked = self.held if isinstance(self.held, int) else None
        if self.held is not None:
            self.start, self.shape, self.group = at, self.corners(), object()
            return
        other = self._outline_at(event.position())
        if other is not None:
            self.session.select(other.id)
            return
        if self.current() is not None:
            self.session.select("")  # a stray click begins no other outline
            return
        self.session.select("")
        self.points = [at]
        self.session.view_changed.emit()

    def _outline_at(self, at: QPointF) -> Outline | None:
        for outline in self.items():
            corners = outline_at(self.session.shot, outline, self.session.frame)
            if overlays.polygon(self.canvas.to_widget(smooth_line(corners))).containsPoint(at, Qt.FillRule.OddEvenFill):
                return outline
        return None

    def move(self, event) -> None:
        super().move(event)
        if self.held is None or self.shape is None or self.start is None:
            return
        shift = self.canvas.to_plate(event.position()) - self.start
        shape = self.shape.copy()
        if self.held == "whole":
            shape += shift
        else:
            shape[self.held] += shift
        self._put(shape, f"Change {self.noun}")

    def release(self, event) -> None:
        self.held = self.start = self.shape = None
        self.session.history.close_group()

    def _put(self, shape: np.ndarray, label: str) -> None:
        outline = self.current()
        if outline is not None:
            value, frame = tuple(float(v) for v in shape.ravel()), self.session.frame
            self.session.edit_value(label, outline.id, "shape", lambda old: old.with_key(frame, value, "linear"), self.group)

    def _reshape(self, change, label: str) -> None:
        """Add or take away a corner in every key, so that corners keep belonging together."""
        outline = self.current()
        if outline is None:
            return

        def one(value):
            return tuple(float(v) for v in change(np.array(value).reshape(-1, 2)).ravel())

        shape = outline.shape
        keys = tuple(Key(k.frame, one(k.value), k.easing, k.handles) for k in shape.keys)
        self.session.edit_item(label, outline.id, shape=Keyed(one(shape.value), keys))

    def double(self, event) -> None:
        corners = self.corners()
        if self.points or len(corners) == 0 or isinstance(self._hit(event.position()), int):
            return
        line = self.canvas.to_widget(smooth_line(corners))
        place = int(np.linalg.norm(line - [event.position().x(), event.position().y()], axis=1).argmin())
        after = place * len(corners) // len(line)
        self._reshape(lambda c: np.insert(c, after + 1, smooth_line(c)[place % len(line)], axis=0), "Add a corner")

    def key(self, event) -> bool:
        if self.points and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.close()
            return True
        if self.points and event.key() == Qt.Key.Key_Backspace:
            self.points.pop()
            self.canvas.update()
            return True
        if event.key() == Qt.Key.Key_Escape:
            self.points = []
            self.session.select("")
            self.session.view_changed.emit()
            return True
        if event.key() in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace) and self.current() is not None:
            if self.marked is not None and len(self.corners()) > 3:
                marked, self.marked = self.marked, None
                self._reshape(lambda c: np.delete(c, marked, axis=0), "Take away a corner")
            else:
                remove_outline(self.session, self.kind, self.session.selected)
            return True
        return False

    def close(self) -> None:
        if len(self.points) < 3:
            has = "one" if len(self.points) == 1 else "two"
            self.session.tell(
                f"An outline needs three corners, this one has {has}.",
                "Click the next one; Escape drops it.",
                "doubtful",
                holds=lambda: 0 < len(self.points) < 3,
            )
            return
        value = tuple(float(v) for p in self.points for v in p)
        self.points = []
        outline = Outline(
            id=new_id(),
            name=f"{self.noun.capitalize()} {len(getattr(self.session.shot, self.kind)) + 1}",
            shape=Keyed(value).with_key(self.session.frame, value, "linear"),
        )
        self.session.edit(f"Draw {self.noun}", lambda s: msgspec.structs.replace(s, **{self.kind: (*getattr(s, self.kind), outline)}))
        self.session.select(outline.id)

    def paint(self, p: QPainter) -> None:
        current = self.current()
        if current is not None and not self.points:
            overlays.paint_ghosts(p, self.canvas, current)
        if not self.points:
            return
        line = self.canvas.to_widget(np.array(self.points))
        p.setPen(QPen(QColor(theme.ACCENT), 1.4))
        p.setBrush(Qt.BrushStyle.NoBrush)
        ends = [*line, [self.pointer.x(), self.pointer.y()]] if self.pointer else line
        p.drawPolyline(overlays.polygon(np.array(ends)))
        for x, y in line:
            p.setBrush(QColor("#FFFFFF"))
            p.drawRect(QRectF(x - 3, y - 3, 6, 6))


class DrawMatte(DrawOutline):
    name, label, icon, tip = "matte", "Outline", "spline", "Draw a closed outline round what passes in front"


class DrawRegion(DrawOutline):
    kind, noun = "regions", "region"
    name, label, icon, tip = "region", "Keep out", "scan", "Draw a region that the tracker must not look at; the picture is untouched"


def remove_outline(session, kind: str, id_: str) -> None:
    session.edit("Delete outline", lambda s: msgspec.structs.replace(s, **{kind: tuple(o for o in getattr(s, kind) if o.id != id_)}))
