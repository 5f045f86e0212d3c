"""Drawing and changing outlines, closed or open: mattes, and regions that the tracker must not see."""

from collections.abc import Callable

import msgspec
import numpy as np
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen

from lodestar.core.basics.keyed import Keyed
from lodestar.core.edits.arrange import new_id
from lodestar.core.edits.outlines import with_corner, with_handles, without_corner, without_handles
from lodestar.core.evaluate.carrying import outline_at
from lodestar.core.matte.outline import STEPS
from lodestar.core.matte.sources import Outline, line_of
from lodestar.core.shot.document import Shot
from lodestar.core.shot.motion import with_things

from ... import theme
from .. import drawing, overlays
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
        self.handle: int | None = None  # that is dragged, by its number in the shape
        self.pulled: int | None = None  # corner out of which handles are about to be dragged,
        self.new_handles: int | None = None  # and out of which they are

    def hint(self) -> str:
        if self.points:
            return "Click adds a corner, Shift a sharp one · Enter closes, Shift+Enter leaves it open · Backspace takes back · Escape drops it"
        if self.current() is not None:
            return "Drag corners, sides, all · double click: sharp or smooth, or a new corner · Shift and drag: handles · Ctrl and drag: feather"
        return (
            "Click corner after corner round what passes in front"
            if self.kind == "mattes"
            else "Click corner after corner round what the tracker must not see"
        )

    def items(self) -> tuple[Outline, ...]:
        return tuple(o for o in getattr(self.session.shot, self.kind) if isinstance(o, Outline))

    def current(self) -> Outline | None:
        return next((o for o in self.items() if o.id == self.session.selected), None)

    def shape_here(self) -> np.ndarray:
        """The shape now: corners, then handles."""
        outline = self.current()
        return outline_at(self.session.shot, outline, self.session.frame) if outline else np.zeros((0, 2))

    def _hit(self, at: QPointF) -> tuple[int, ...] | None:
        """What a drag from here takes along, by its numbers in the shape: a corner, the two of a side, all, or a handle alone; None beside the outline."""
        outline, shape = self.current(), self.shape_here()
        if outline is None or len(shape) == 0:
            return None
        count = outline.count
        point, places = np.array([at.x(), at.y()]), self.canvas.to_widget(shape)
        away = np.linalg.norm(places - point, axis=1)
        # a corner sooner than a handle that lies on it
        for begin, some in ((0, away[:count]), (count, away[count:])):
            if len(some) and some.min() < REACH_PX:
                return (int(some.argmin()) + begin,)
        line = self.canvas.to_widget(line_of(outline, shape))
        ends = np.roll(line, -1, 0)[: len(line) if outline.closed else len(line) - 1]
        side = ends - line[: len(ends)]
        along = np.clip(((point - line[: len(ends)]) * side).sum(1) / np.maximum((side * side).sum(1), 1e-9), 0, 1)
        off = np.linalg.norm(line[: len(ends)] + along[:, None] * side - point, axis=1)
        if off.min() < NEAR_LINE_PX:
            after = int(off.argmin()) // STEPS
            return (after, (after + 1) % count)
        inside = outline.closed and drawing.polygon(line).containsPoint(at, Qt.FillRule.OddEvenFill)
        return tuple(range(count)) if inside else None

    def _moved(self, outline: Outline) -> tuple[int, ...]:
        """Numbers of the shape that a drag changes, x and y: of corners with their handles; a handle is keyed with its corner."""
        corners = self.held or () if self.handle is None else (outline.handled[(self.handle - outline.count) // 2],)
        return tuple(2 * row + axis for row in _with_handles(outline, corners) for axis in (0, 1))

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
        outline = self.current()
        count = outline.count if outline is not None else 0
        alone = self.held[0] if self.held is not None and len(self.held) == 1 else None
        self.handle = alone if alone is not None and alone >= count else None
        self.marked = alone if self.handle is None else None
        if self.held is not None:
            self.start, self.shape, self.group = at, self.shape_here(), object()
            self.feathering = self.marked if keys & Qt.KeyboardModifier.ControlModifier else None
            self.pulled = self.marked if keys & Qt.KeyboardModifier.ShiftModifier and self.feathering is None else None
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
            if outline.closed and drawing.polygon(line).containsPoint(at, Qt.FillRule.OddEvenFill):
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
        if self.pulled is not None:
            self._pull_handles(self.pulled)
        shape, outline = self.shape.copy(), self.current()
        if self.handle is None and outline is not None:
            shape[_with_handles(outline, self.held)] += at - self.start
        elif self.handle is not None:
            shape[self.handle] = at
            if not event.modifiers() & Qt.KeyboardModifier.ShiftModifier or self.new_handles is not None:
                self._turn_other(shape, self.handle)
        self._put(shape, f"Change {self.noun}")

    def _pull_handles(self, corner: int) -> None:
        """The corner that is dragged with Shift has handles from now on, and the drag goes on with one of them."""
        outline, self.pulled = self.current(), None
        if outline is None:
            return
        outline = with_handles(outline, corner) if corner not in outline.handled else outline
        self.shape, self.new_handles = outline_at(self.session.shot, outline, self.session.frame), corner
        self.handle = outline.count + 2 * outline.handled.index(corner) + 1

    def _turn_other(self, shape: np.ndarray, handle: int) -> None:
        """The handle at the other side of a corner stays in one line with this one, as long as it was; as long as this one where both are new."""
        outline = self.current()
        if outline is None:
            return
        place, handled = handle - outline.count, sorted({*outline.handled, *([] if self.new_handles is None else [self.new_handles])})
        corner, other = shape[handled[place // 2]], outline.count + (place ^ 1)
        way = corner - shape[handle]
        long = float(np.linalg.norm(way))
        reach = long if self.new_handles is not None else float(np.linalg.norm(shape[other] - corner))
        shape[other] = corner + way / max(long, 1e-6) * reach

    def _feather(self, corner: int, reach: float) -> None:
        """The feather of one corner reaches so many px; where the outline had none, only this corner has it then."""
        outline = self.current()
        if outline is None:
            return
        count, whole = outline.count, outline.feather.at(self.session.frame)[0]
        shares = [*outline.feathers, *[1.0] * count][:count]
        feather = outline.feather
        if whole < LEAST_FEATHER_PX:
            whole, shares = max(round(reach, 1), LEAST_FEATHER_PX), [0.0] * count
            feather = feather.changed(self.session.frame, (whole,))
        shares[corner] = round(reach / whole, 4)
        self.session.edit_item("Feather of a corner", outline.id, self.group, feathers=tuple(shares), feather=feather)

    def release(self, event) -> None:
        self.held = self.start = self.shape = self.feathering = self.pulled = self.handle = None
        self.new_handles = None
        self.session.history.close_group()

    def _put(self, shape: np.ndarray, label: str) -> None:
        outline, pulled = self.current(), self.new_handles
        if outline is None:
            return
        id_, value, frame = outline.id, tuple(float(v) for v in shape.ravel()), self.session.frame

        def change(shot: Shot) -> Shot:
            now = next(o for o in getattr(shot, self.kind) if o.id == id_)
            now = with_handles(now, pulled) if pulled is not None else now
            only = self._moved(now) if now.apart else ()
            return with_things(shot, {id_: msgspec.structs.replace(now, shape=now.shape.with_key(frame, value, "linear", only))})

        self.session.edit(label, change, (self.group, id_))

    def _reshape(self, label: str, change: Callable[[Outline], Outline]) -> None:
        outline = self.current()
        if outline is not None:
            new = change(outline)
            self.session.edit_item(label, outline.id, shape=new.shape, sharp=new.sharp, handled=new.handled, feathers=new.feathers)

    def double(self, event) -> None:
        outline, hit = self.current(), self._hit(event.position())
        if self.points or outline is None or hit is None or len(hit) > 2:
            return
        if len(hit) == 1:
            # a double click on a handle is one on its corner
            self.marked = hit[0] if hit[0] < outline.count else outline.handled[(hit[0] - outline.count) // 2]
            self.turn_sharp()
            return
        line = self.canvas.to_widget(line_of(outline, self.shape_here()))
        place = int(np.linalg.norm(line - [event.position().x(), event.position().y()], axis=1).argmin())
        share = min(max(place - hit[0] * STEPS, 1), STEPS - 1) / STEPS
        self._reshape("Add a corner", lambda o: with_corner(o, hit[0], share))

    def turn_sharp(self) -> None:
        """The marked corner becomes sharp, or smooth again; one with handles loses them."""
        outline = self.current()
        marked = self.marked
        if outline is None or marked is None:
            return
        if marked in outline.handled:
            self._reshape("Corner without handles", lambda o: without_handles(o, marked))
        else:
            sharp = set(outline.sharp) ^ {marked}
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
            if self.marked is not None and self.current().count > (3 if self.current().closed else 2):
                marked, self.marked = self.marked, None
                self._reshape("Take away a corner", lambda o: without_corner(o, marked))
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
        p.drawPolyline(drawing.polygon(np.array(ends)))
        p.setBrush(QColor("#FFFFFF"))
        for k, (x, y) in enumerate(line):
            overlays.paint_corner(p, x, y, k in self.sharp)


def _with_handles(outline: Outline, corners: tuple[int, ...]) -> list[int]:
    """Numbers in the shape of corners, and of the handles that go along with them."""
    return [*corners, *(outline.count + 2 * j + side for j, corner in enumerate(outline.handled) if corner in corners for side in (0, 1))]


class DrawMatte(DrawOutline):
    name, label, icon, tip = "matte", "Outline", "spline", "Draw an outline round what passes in front, or an open line along a thin thing"


class DrawRegion(DrawOutline):
    kind, noun = "regions", "region"
    name, label, icon, tip = "region", "Keep out", "scan", "Draw a region that the tracker must not look at; the picture is untouched"


def remove_outline(session, kind: str, id_: str) -> None:
    session.edit("Delete outline", lambda s: msgspec.structs.replace(s, **{kind: tuple(o for o in getattr(s, kind) if o.id != id_)}))
