"""A lane for each object and matte, and under the one in hand a row for each of its keyed values."""

from typing import NamedTuple

import msgspec
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen, QPolygonF
from PyQt6.QtWidgets import QLineEdit, QWidget

from lodestar.core.basics.keyed import Keyed
from lodestar.core.matte.strokes import UNSURE, Brushed
from lodestar.core.shot.document import LANES, Shot
from lodestar.core.shot.motion import Chosen, change_keys, field_of, keyed_thing, keyed_things, moved_keys, owner_of, whole_motion, with_things
from lodestar.core.shot.objects import Mover, Thing, keyed_parts, owned
from lodestar.core.work.matting import is_due

from .. import theme
from ..session import STEPS, Session
from .axis import GUTTER, LANE, REACH_PX, TimeAxis


class Row(NamedTuple):
    """The lane of a thing, or with `part` the row of one of its values; owner: the thing that it is a layer or mover of."""

    id: str
    thing: msgspec.Struct
    part: str = ""
    owner: str = ""

    @property
    def name(self) -> str:
        own = getattr(self.thing, "name", self.id.capitalize())
        if not self.part:
            return own
        part = self.part.replace("_", " ")
        return f"{part} · {own}" if self.owner else part

    @property
    def values(self) -> dict[str, Keyed]:
        parts = keyed_parts(self.thing)
        return {self.part: parts[self.part]} if self.part else parts

    def keys_at(self, frame: float) -> Chosen:
        return frozenset((self.id, part, frame) for part, value in self.values.items() if value.has_key(frame))

    @property
    def frames(self) -> list[float]:
        return sorted({k.frame for value in self.values.values() for k in value.keys})


def in_hand(session: Session) -> str:
    """The id of the thing whose values have rows: the chosen one, or what the step on show is about."""
    shot = session.shot
    if session.step in ("Light", "Finish") and step_of(session, session.selected) != session.step:
        for id_, thing in keyed_things(shot).items():
            if step_of(session, id_) == session.step and any(v.keys for v in keyed_parts(thing).values()):
                return id_
    item = session.object()
    return session.selected or (item.id if item is not None else "")


def rows(session: Session) -> list[Row]:
    """Objects and mattes, and lamps and finish where they are keyed."""
    shot, held = session.shot, in_hand(session)
    found = []
    for id_, thing in keyed_things(shot).items():
        field, owner = field_of(shot, id_), owner_of(shot, id_)
        keyed = [part for part, value in keyed_parts(thing).items() if value.keys]
        if owner:
            found += [Row(id_, thing, part, owner) for part in keyed if owner == held]
            continue
        if field not in LANES or not (LANES[field].always or keyed):
            continue
        found.append(Row(id_, thing))
        if id_ == held:
            found += [Row(id_, thing, part) for part in keyed]
    return sorted(found, key=lambda row: STEPS.index(LANES[field_of(shot, row.id)].step))


def key_frames(session: Session) -> list[float]:
    """All frames at which anything of the thing in hand is keyed."""
    found = [r for r in rows(session) if r.id == in_hand(session) and not r.part]
    return found[0].frames if found else []


class Lanes(QWidget):
    """Lanes with their keys. Keys are chosen by click, Shift and Shift drag, dragged along time, copied with Ctrl."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.setObjectName("lanes")
        self.setAccessibleName("Lanes of objects and mattes, and their keys")
        self.setToolTip(
            "Click chooses · drag a key along time, Ctrl copies it · Shift drag chooses keys · double click in a value's row sets a key\n"
            "Double click on a name, or F2, renames · Drag an end of a span · Alt drag moves it all in time · right click: easing and more"
        )
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.time: QWidget = self  # whose width is the scale; a scroll bar makes the lanes narrower than the ruler
        self._drag: tuple = ()
        self._box: QRectF | None = None
        self._renamed = ("", "")
        self.editor = QLineEdit(self)
        self.editor.setObjectName("lane-name")
        self.editor.setAccessibleName("Name of the lane")
        self.editor.setStyleSheet("padding: 0 4px; font-size: 12px;")
        self.editor.hide()
        self.editor.editingFinished.connect(self._take_name)

    def axis(self) -> TimeAxis:
        return TimeAxis(self.session, self.time.width())

    def refresh(self) -> None:
        self.setMinimumHeight(len(rows(self.session)) * LANE)
        self.update()

    # paint

    def paintEvent(self, event) -> None:
        p = QPainter(self)
        p.fillRect(self.rect(), QColor(theme.WINDOW))
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        axis = self.axis()
        for i, row in enumerate(rows(self.session)):
            self._paint_row(p, axis, row, i * LANE)
        x = axis.x(self.session.frame)
        axis.clip(p, self.height())
        p.setPen(QPen(QColor(theme.ACCENT), 1))
        p.drawLine(QPointF(x, 0), QPointF(x, self.height()))
        p.setClipping(False)
        if self._box is not None:
            p.setPen(QPen(QColor(theme.TEXT), 1, Qt.PenStyle.DashLine))
            p.setBrush(Qt.BrushStyle.NoBrush)
            p.drawRect(self._box)

    def _paint_row(self, p: QPainter, axis: TimeAxis, row: Row, y: float) -> None:
        hand = in_hand(self.session)
        if (hand and hand in (row.id, row.owner)) or row.id in self.session.others:
            p.fillRect(QRectF(0, y, self.width(), LANE), QColor(theme.CHOSEN_ROW))
        p.setFont(theme.font(12 if not row.part else 11))
        p.setPen(QColor(theme.QUIET if row.part else theme.TEXT if getattr(row.thing, "visible", True) else theme.OFF))
        indent = 24 if row.part else 12
        name = p.fontMetrics().elidedText(row.name, Qt.TextElideMode.ElideRight, GUTTER - indent - 8)
        p.drawText(QRectF(indent, y, GUTTER - indent - 8, LANE), Qt.AlignmentFlag.AlignVCenter, name)
        axis.clip(p, self.height())
        if not row.part:
            a, b = span_of(row.thing, axis.count)
            p.setPen(Qt.PenStyle.NoPen)
            p.setBrush(QColor.fromRgbF(*row.thing.lane) if isinstance(row.thing, Thing) else QColor(theme.OFF))
            p.drawPolygon(self._bar(axis, row, y))
            if isinstance(row.thing, Brushed):
                self._paint_found(p, axis, row.thing, y)
        frames = row.frames
        if len(frames) > 1:
            p.setPen(QPen(QColor(theme.READING), 1))
            p.drawLine(QPointF(axis.x(frames[0]), y + 9), QPointF(axis.x(frames[-1]), y + 9))
        p.setPen(Qt.PenStyle.NoPen)
        chosen = {f for id_, part, f in self.session.keys if id_ == row.id and part in row.values}
        for f in frames:
            held = f in chosen
            p.setBrush(QColor(theme.ACCENT if held else theme.TEXT))
            w, h = (6, 13) if held else (4, 10)
            p.drawRoundedRect(QRectF(axis.x(f) - w / 2, y + 9 - h / 2, w, h), 2, 2)
        p.setClipping(False)

    def _bar(self, axis: TimeAxis, row: Row, y: float) -> QPolygonF:
        """The bar of a lane: its ends slant where letters arrive or leave one after the other."""
        a, b = span_of(row.thing, axis.count)
        left, right = axis.x(a) - axis.half, axis.x(b) + axis.half
        top_left, top_right = left, right
        for mover, inner in slants(row.thing):
            if mover.role == "arrive":
                top_left = max(left, axis.x(inner))
            else:
                top_right = min(right, axis.x(inner))
        return QPolygonF([QPointF(top_left, y + 5), QPointF(top_right, y + 5), QPointF(right, y + 13), QPointF(left, y + 13)])

    def _paint_found(self, p: QPainter, axis: TimeAxis, source: Brushed, y: float) -> None:
        """On which frames a subject was found: full height where it is sure, half where it is not; painted ones have a tall mark. What was
        found from something else than there is now is hollow."""
        stale = is_due(self.session.shot, source) and bool(source.source)
        for found in source.found:
            unsure = found.sure < UNSURE
            at = QRectF(axis.x(found.frame) - axis.half, y + (9 if unsure else 5), 2 * axis.half, 4 if unsure else 8)
            p.setBrush(QColor(theme.DOUBTFUL if unsure else theme.QUIET if stale else theme.READING))
            p.drawRect(at)
        p.setBrush(QColor(theme.TEXT))
        for frame in source.selected_frames:
            p.drawRoundedRect(QRectF(axis.x(frame) - 2, y + 3, 4, 12), 2, 2)

    # mouse

    def _row_at(self, y: float) -> Row | None:
        found, i = rows(self.session), int(y // LANE)
        return found[i] if 0 <= i < len(found) else None

    def mousePressEvent(self, event) -> None:
        axis, at, session = self.axis(), event.position(), self.session
        self._drag = ()
        row = self._row_at(at.y())
        if event.button() != Qt.MouseButton.LeftButton and not (row and self._near(axis, row, at.x())):
            return
        shift, alt = (bool(event.modifiers() & m) for m in (Qt.KeyboardModifier.ShiftModifier, Qt.KeyboardModifier.AltModifier))
        if row is None or (shift and at.x() > GUTTER and not self._near(axis, row, at.x())):
            self._drag = ("box", at)
            session.choose_keys(session.keys if shift else frozenset())
            return
        near = self._near(axis, row, at.x())
        session.choose_object(row.owner or row.id, shift and at.x() <= GUTTER)
        if at.x() <= GUTTER:
            session.show_step(step_of(session, row.id))
        elif near:
            self._take_key(row, near[0], shift)
        elif alt:
            self._drag = ("all", row.id, axis.frame(at.x()), object())
        else:
            self._take_lane(axis, row, at.x())
        self.update()

    @staticmethod
    def _near(axis: TimeAxis, row: Row, x: float) -> list[float]:
        return sorted((f for f in row.frames if abs(axis.x(f) - x) < REACH_PX), key=lambda f: abs(axis.x(f) - x))

    def _take_key(self, row: Row, frame: float, add: bool) -> None:
        session, here = self.session, row.keys_at(frame)
        if add:
            session.choose_keys(session.keys - here if here <= session.keys else session.keys | here)
        elif not here <= session.keys:
            session.choose_keys(here)
        self._drag = ("keys", frame, session.keys, object())
        session.show_frame(round(frame))

    def _take_lane(self, axis: TimeAxis, row: Row, x: float) -> None:
        self.session.choose_keys(frozenset())
        a, b = span_of(row.thing, axis.count)
        ends = abs(axis.x(a) - axis.half - x), abs(axis.x(b) + axis.half - x)
        slant = next(((m, f) for m, f in slants(row.thing) if not row.part and abs(axis.x(f) - x) < REACH_PX), None)
        if slant is not None:
            self._drag = ("slant", slant[0].id, slant[1], object())
            return
        if isinstance(row.thing, Thing) and not row.part and min(ends) < REACH_PX:
            self._drag = ("first" if ends[0] < REACH_PX else "last", row.id, (a, b), object())
        else:
            self._drag = ("playhead",)
            self.session.show_frame(axis.frame(x))

    def mouseMoveEvent(self, event) -> None:
        if not self._drag:
            return
        axis, session = self.axis(), self.session
        to = axis.frame(event.position().x())
        match self._drag:
            case ("playhead",):
                session.show_frame(to)
            case ("box", start):
                self._box = QRectF(start, event.position()).normalized()
            case ("keys", frame, chosen, group):
                copy = bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
                move_keys(session, chosen, to - frame, copy, group)
            case ("all", id_, start, group):
                self._move_all(id_, to - start, group)
            case ("slant", id_, frame, group):
                move_keys(session, frozenset({(id_, "reach", frame)}), to - frame, False, group)
            case (end, id_, (a, b), group):
                span = (min(to, b), b) if end == "first" else (a, max(to, a))
                session.edit_item("Change span", id_, group, span=span)
        self.update()

    def _move_all(self, id_: str, by: int, group: object) -> None:
        """A thing with its span and all its keys goes along time."""

        def edit(shot: Shot) -> Shot:
            shot = change_keys(shot, whole_motion(shot, id_), lambda value, frames: moved_keys(value, frames, by))
            thing = keyed_things(shot)[id_]
            span = getattr(thing, "span", None)
            return with_things(shot, {id_: msgspec.structs.replace(thing, span=(span[0] + by, span[1] + by))}) if span else shot

        self.session.edit("Move in time", edit, group)

    def mouseReleaseEvent(self, event) -> None:
        if self._box is not None:
            axis = self.axis()
            inside = [
                row.keys_at(f)
                for i, row in enumerate(rows(self.session))
                for f in row.frames
                if self._box.intersects(QRectF(axis.x(f) - 2, i * LANE + 4, 4, 10))
            ]
            self.session.choose_keys(self.session.keys.union(*inside))
        self._drag, self._box = (), None
        self.session.history.close_group()
        self.update()

    def rename(self, row: Row) -> None:
        """Write another name over that of a lane."""
        field = "label" if hasattr(row.thing, "label") else "name" if "name" in row.thing.__struct_fields__ else ""
        found = rows(self.session)
        if row.part or not field or row not in found:
            return
        self._renamed = (row.id, field)
        self.editor.setGeometry(4, found.index(row) * LANE - 2, GUTTER - 6, LANE + 4)
        self.editor.setText(getattr(row.thing, field))
        self.editor.setPlaceholderText(row.name)
        self.editor.show()
        self.editor.setFocus()
        self.editor.selectAll()

    def _take_name(self) -> None:
        if self.editor.isVisible():
            self.editor.hide()
            id_, field = self._renamed
            text = self.editor.text().strip()
            thing = keyed_thing(self.session.shot, id_)
            if thing is not None and getattr(thing, field) != text and (text or field == "label"):
                self.session.edit_item("Rename", id_, **{field: text})

    def mouseDoubleClickEvent(self, event) -> None:
        row, axis = self._row_at(event.position().y()), self.axis()
        if row is not None and event.position().x() <= GUTTER:
            self.rename(row)
            return
        if row is not None and row.part and event.position().x() > GUTTER:
            frame = float(axis.frame(event.position().x()))
            set_keys(self.session, [(row.id, row.part)], frame)

    def keyPressEvent(self, event) -> None:
        session, steps = self.session, {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}
        if event.key() == Qt.Key.Key_F2 and (row := next((r for r in rows(session) if r.id == in_hand(session) and not r.part), None)):
            self.rename(row)
        elif event.key() in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace) and session.keys:
            session.delete_keys()
        elif event.key() in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace) and session.selected:
            session.delete_chosen()
        elif event.key() in steps and session.keys:
            move_keys(session, session.keys, steps[event.key()], False, None)
        elif event.key() == Qt.Key.Key_Escape and session.keys:
            session.choose_keys(frozenset())
        elif event.key() == Qt.Key.Key_Escape:
            session.select("")
        else:
            super().keyPressEvent(event)


def slants(thing: msgspec.Struct) -> list[tuple[Mover, float]]:
    """The movers by which a title arrives and leaves, with the frame at which all of it is there, or begins to go."""
    found = []
    for mover in owned(thing).get("movers", ()):
        if isinstance(mover, Mover) and mover.on and mover.role and len(mover.reach.keys) > 1:
            found.append((mover, mover.reach.keys[-1 if mover.role == "arrive" else 0].frame))
    return found


def span_of(thing: msgspec.Struct, count: int) -> tuple[int, int]:
    span = getattr(thing, "span", None)
    return span if span is not None else (0, count - 1)


def step_of(session: Session, id_: str) -> str:
    """The step to which a lane belongs."""
    field = field_of(session.shot, id_)
    return LANES[field].step if field in LANES else ""


def move_keys(session: Session, chosen: Chosen, by: float, copy: bool, group: object) -> None:
    """Keys go along time; they stay in hand."""

    def edit(shot: Shot) -> Shot:
        return change_keys(shot, chosen, lambda v, f: moved_keys(v, f, by, copy)) if by else shot

    session.edit("Copy keys" if copy else "Move keys", edit, group)
    session.choose_keys(frozenset((id_, part, frame + by) for id_, part, frame in chosen))


def set_keys(session: Session, parts: list[tuple[str, str]], frame: float) -> None:
    """Keys of the present values at a frame."""
    chosen = frozenset((id_, part, frame) for id_, part in parts)
    session.edit("Set key", lambda s: change_keys(s, chosen, lambda value, _: value.with_key(frame, value.at(frame))))
    session.choose_keys(chosen)
