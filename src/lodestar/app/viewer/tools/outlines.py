"""Drawing and changing outlines, closed or open: mattes, and regions that the tracker must not see."""

from collections.abc import Callable

import msgspec
import numpy as np
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen

from lodestar.core.basics.keyed import Key, Keyed
from lodestar.core.edits.arrange import new_id
from lodestar.core.evaluate.carrying import outline_at
from lodestar.core.matte.outline import STEPS
from lodestar.core.matte.sources import Outline, line_of

from ... import theme
from .. import overlays
from .tool import REACH_PX, Tool

NEAR_LINE_PX = 4.0  # from the line, on the screen: a drag from here takes its side along
LEAST_FEATHER_PX = 0.5


class DrawOutline(Tool):
    """Draws an outline point by point, and changes the chosen one; at each frame where its corners are moved it gets a key."""

    kind = "mattes"
    noun = "matte"

    def __init__(self, canvas) -> None:
        super().__init__(canvas)
        self.points: list[np.ndarray] = []
        self.sharp: list[int] = []  # of the corners that are being drawn
        self.held: tuple[int, ...] | None = None  # corners under the pointer's button
        self.feathering: int | None = None
        self.start: np.ndarray | None = None
        self.shape: np.ndarray | None = None
        self.group: object = None
        self.marked: int | None = None

    def hint(self) -> str:
        if self.points:
            return "Click adds a corner, Shift a sharp one · Enter closes, Shift+Enter leaves it open · Backspace takes back · Escape drops it"
        if self.current() is not None:
            return "Drag corners, sides or the whole · double click: a corner sharp or smooth, or a new one · Ctrl and drag: its feather · Delete"
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

    def _hit(self, at: QPointF) -> tuple[int, ...] | None:
        """The corners that a drag from here takes along: one, the two of a side, or all; None beside the outline."""
        outline, corners = self.current(), self.corners()
        if outline is None or len(corners) == 0:
            return None
        point, places = np.array([at.x(), at.y()]), self.canvas.to_widget(corners)
        away = np.linalg.norm(places - point, axis=1)
        if away.min() < REACH_PX:
            return (int(away.argmin()),)
        line = self.canvas.to_widget(line_of(outline, corners))
        ends = np.roll(line, -1, 0)[: len(line) if outline.closed else len(line) - 1]
        side = ends - line[: len(ends)]
        along = np.clip(((point - line[: len(ends)]) * side).sum(1) / np.maximum((side * side).sum(1), 1e-9), 0, 1)
        off = np.linalg.norm(line[: len(ends)] + along[:, None] * side - point, axis=1)
        if off.min() < NEAR_LINE_PX:
            after = int(off.argmin()) // STEPS
            return (after, (after + 1) % len(corners))
        inside = outline.closed and overlays.polygon(line).containsPoint(at, Qt.FillRule.OddEvenFill)
        return tuple(range(len(corners))) if inside else None

    def press(self, event) -> None:
        if event.button() != Qt.MouseButton.LeftButton:
            return
        at, keys = self.canvas.to_plate(event.position()), event.modifiers()
        if self.points:
            first = self.canvas.to_widget(self.points[0])
            if len(self.points) > 2 and np.hypot(*(first - [event.position().x(), event.position().y()])) < REACH_PX:
                self.close()
                self.canvas.update()
                return
            if np.hypot(*(self.canvas.to_widget(self.points[-1]) - [event.position().x(), event.position().y()])) >= 1:
                self.points.append(at)  # the second press of a double click is no corner of its own
                self.sharp += [len(self.points) - 1] if keys & Qt.KeyboardModifier.ShiftModifier else []
            self.canvas.update()
            return
        self.held = self._hit(event.position())
        self.marked = self.held[0] if self.held is not None and len(self.held) == 1 else None
        if self.held is not None:
            self.start, self.shape, self.group = at, self.corners(), object()
            self.feathering = self.marked if keys & Qt.KeyboardModifier.ControlModifier else None
            return
        other = self._outline_at(event.position())
        if other is not None:
            self.session.select(other.id)
            return
        if self.current() is not None:
            self.session.select("")  # a stray click begins no other outline
            return
        self.session.select("")
        self.points, self.sharp = [at], [0] if keys & Qt.KeyboardModifier.ShiftModifier else []
        self.session.view_changed.emit()

    def _outline_at(self, at: QPointF) -> Outline | None:
        for outline in self.items():
            corners = outline_at(self.session.shot, outline, self.session.frame)
            line = self.canvas.to_widget(line_of(outline, corners))
            if outline.closed and overlays.polygon(line).containsPoint(at, Qt.FillRule.OddEvenFill):
                return outline
            if not outline.closed and np.linalg.norm(line - [at.x(), at.y()], axis=1).min() < 2 * REACH_PX:
                return outline
        return None

    def move(self, event) -> None:
        super().move(event)
        if self.held is None or self.shape is None or self.start is None:
            return
        at = self.canvas.to_plate(event.position())
        if self.feathering is not None:
            self._feather(self.feathering, float(np.linalg.norm(at - self.shape[self.feathering])))
            return
        shape = self.shape.copy()
        shape[list(self.held)] += at - self.start
        self._put(shape, f"Change {self.noun}")

    def _feather(self, corner: int, reach: float) -> None:
        """The feather of one corner reaches so many px; where the outline had none, only this corner has it then."""
        outline = self.current()
        if outline is None:
            return
        count, whole = len(self.corners()), outline.feather.at(self.session.frame)[0]
        shares = [*outline.feathers, *[1.0] * count][:count]
        feather = outline.feather
        if whole < LEAST_FEATHER_PX:
            whole, shares = max(round(reach, 1), LEAST_FEATHER_PX), [0.0] * count
            feather = feather.changed(self.session.frame, (whole,))
        shares[corner] = round(reach / whole, 4)
        self.session.edit_item("Feather of a corner", outline.id, self.group, feathers=tuple(shares), feather=feather)

    def release(self, event) -> None:
        self.held = self.start = self.shape = self.feathering = None
        self.session.history.close_group()

    def _put(self, shape: np.ndarray, label: str) -> None:
        outline = self.current()
        if outline is not None:
            value, frame = tuple(float(v) for v in shape.ravel()), self.session.frame
            self.session.edit_value(label, outline.id, "shape", lambda old: old.with_key(frame, value, "linear"), self.group)

    def _reshape(self, corners: Callable[[np.ndarray], np.ndarray], numbers: Callable[[list], list], label: str) -> None:
        """Add or take away a corner in every key, so that corners keep belonging together. corners: of the places (n, 2); numbers: of one
        entry for each corner."""
        outline = self.current()
        if outline is None:
            return

        def one(value):
            return tuple(float(v) for v in corners(np.array(value).reshape(-1, 2)).ravel())

        shape, count = outline.shape, len(self.corners())
        keys = tuple(Key(k.frame, one(k.value), k.easing, k.handles) for k in shape.keys)
        sharp = numbers([k in outline.sharp for k in range(count)])
        shares = tuple(numbers([*outline.feathers, *[1.0] * count][:count])) if outline.feathers else ()
        self.session.edit_item(
            label, outline.id, shape=Keyed(one(shape.value), keys), sharp=tuple(k for k, hard in enumerate(sharp) if hard), feathers=shares
        )

    def double(self, event) -> None:
        outline, corners, hit = self.current(), self.corners(), self._hit(event.position())
        if self.points or outline is None or hit is None or len(hit) > 2:
            return
        if len(hit) == 1:
            self.marked = hit[0]
            self.turn_sharp()
            return
        line = self.canvas.to_widget(line_of(outline, corners))
        place = int(np.linalg.norm(line - [event.position().x(), event.position().y()], axis=1).argmin())
        after = hit[0]
        place = min(max(place, after * STEPS + 1), (after + 1) * STEPS - 1)
        self._reshape(
            lambda c: np.insert(c, after + 1, line_of(outline, c)[place], axis=0),
            lambda n: [*n[: after + 1], 0.5 * (n[after] + n[hit[1]]) if isinstance(n[0], float) else n[after] and n[hit[1]], *n[after + 1 :]],
            "Add a corner",
        )

    def turn_sharp(self) -> None:
        """The marked corner becomes sharp, or smooth again."""
        outline = self.current()
        if outline is not None and self.marked is not None:
            sharp = set(outline.sharp) ^ {self.marked}
            self.session.edit_item("Sharp or smooth corner", outline.id, sharp=tuple(sorted(sharp)))

    def key(self, event) -> bool:
        if self.points and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.close(not event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
            return True
        if self.points and event.key() == Qt.Key.Key_Backspace:
            self.points.pop()
            self.sharp = [k for k in self.sharp if k < len(self.points)]
            self.canvas.update()
            return True
        if event.key() == Qt.Key.Key_Escape:
            self.points = []
            self.session.select("")
            self.session.view_changed.emit()
            return True
        if event.key() in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace) and self.current() is not None:
            if self.marked is not None and len(self.corners()) > (3 if self.current().closed else 2):
                marked, self.marked = self.marked, None
                self._reshape(lambda c: np.delete(c, marked, axis=0), lambda n: [*n[:marked], *n[marked + 1 :]], "Take away a corner")
            else:
                remove_outline(self.session, self.kind, self.session.selected)
            return True
        return False

    def close(self, closed: bool = True) -> None:
        """End the outline that is being drawn; an open one is a line with a width."""
        least, number = (3, "three") if closed else (2, "two")
        if len(self.points) < least:
            has = "one" if len(self.points) == 1 else "two"
            self.session.tell(
                f"{'An outline' if closed else 'An open line'} needs {number} corners, this one has {has}.",
                "Click the next one; Escape drops it.",
                "doubtful",
                holds=lambda: 0 < len(self.points) < least,
            )
            return
        value = tuple(float(v) for p in self.points for v in p)
        self.points = []
        outline = Outline(
            id=new_id(),
            name=f"{self.noun.capitalize()} {len(getattr(self.session.shot, self.kind)) + 1}",
            shape=Keyed(value).with_key(self.session.frame, value, "linear"),
            closed=closed,
            sharp=tuple(self.sharp),
            steady=self.kind == "mattes" and self.session.shot.solve is not None,
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
        p.setBrush(QColor("#FFFFFF"))
        for k, (x, y) in enumerate(line):
            overlays.paint_corner(p, x, y, k in self.sharp)


class DrawMatte(DrawOutline):
    name, label, icon, tip = "matte", "Outline", "spline", "Draw an outline round what passes in front, or an open line along a thin thing"


class DrawRegion(DrawOutline):
    kind, noun = "regions", "region"
    name, label, icon, tip = "region", "Keep out", "scan", "Draw a region that the tracker must not look at; the picture is untouched"


def remove_outline(session, kind: str, id_: str) -> None:
    session.edit("Delete outline", lambda s: msgspec.structs.replace(s, **{kind: tuple(o for o in getattr(s, kind) if o.id != id_)}))
