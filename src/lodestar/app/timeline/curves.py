"""The curve of one keyed value over time, and under it how fast it changes; keys and their handles are dragged."""

from collections.abc import Callable
from typing import Any

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen
from PyQt6.QtWidgets import QWidget

from lodestar.core.basics.keyed import Key, Keyed
from lodestar.core.shot.motion import keyed_thing, keyed_things, moved_keys, shaped, speed
from lodestar.core.shot.objects import keyed_parts, owned

from .. import theme
from ..fields import Choice
from ..measures import figure, length, shown
from ..session import Session
from ..viewer.drawing import polygon, stroke
from .axis import GUTTER, LANE, REACH_PX, TimeAxis
from .lanes import Row, in_hand, set_keys

EASINGS = ("hold", "linear", "smooth", "free")
SPEED_SHARE, EDGE = 0.3, 10  # of the height; px left free over and under a curve
SAMPLE_PX = 2.0
UNITS = {"turn": "°", "twist": "°", "bearing": "°", "size": "×"}
COMPONENTS = {3: theme.AXES, 1: (theme.TEXT,)}


class Curves(QWidget):
    """Names of the keyed values at the left, one of them as a curve. Drag a key (Shift: along one axis, Ctrl: a copy) or the
    handles beside it; double click sets a key; drag anywhere else moves the playhead."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.setObjectName("curves")
        self.setAccessibleName("Curve of a keyed value, and its speed")
        self.setToolTip("Drag a key or a handle beside it · Shift: along one axis · Ctrl: a copy · double click sets a key · below: speed")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.easing = Choice(self)
        self.easing.setObjectName("easing")
        self.easing.setAccessibleName("Easing")
        self.easing.setToolTip("How the value goes from the chosen keys to the next ones")
        self.easing.addItems(EASINGS)
        self.easing.activated.connect(lambda i: self.session.ease_keys(EASINGS[i]))
        self.id = self.part = ""  # of the value whose curve is shown
        self._drag: tuple = ()
        self._lines: tuple = ()  # what the curves were drawn from, and the curves

    # what is shown

    def parts(self) -> dict[tuple[str, str], Keyed]:
        """The keyed values of the thing in hand and of its layers and movers, by the id of what has them and their names."""
        thing = keyed_thing(self.session.shot, in_hand(self.session))
        if thing is None:
            return {}
        things = {in_hand(self.session): thing, **{child.id: child for own in owned(thing).values() for child in own}}
        # an outline is moved over the picture, not along curves
        return {(id_, part): v for id_, one in things.items() for part, v in keyed_parts(one).items() if v.keys and len(v.value) <= 3}

    def value(self) -> Keyed | None:
        parts = self.parts()
        chosen = {(id_, part) for id_, part, _ in self.session.keys}
        if len(chosen & parts.keys()) == 1:
            self.id, self.part = next(iter(chosen & parts.keys()))
        if (self.id, self.part) not in parts and parts:
            self.id, self.part = next(iter(parts))
        return parts.get((self.id, self.part))

    def unit(self) -> str:
        if self.part in UNITS:
            return UNITS[self.part]
        thing = keyed_thing(self.session.shot, self.id)
        return self.session.unit if self.part in ("position", *getattr(thing, "LENGTHS", ())) else ""

    def axis(self) -> TimeAxis:
        return TimeAxis(self.session, self.width())

    def _band(self) -> QRectF:
        """Where the values are drawn; the speed has the room under it."""
        return QRectF(GUTTER, EDGE, self.width() - GUTTER - 12, self.height() * (1 - SPEED_SHARE) - 2 * EDGE)

    def _samples(self, value: Keyed, axis: TimeAxis) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Frames (n,), values (n, k) and speeds (n,) along the width; worked out once for a value."""
        key = (value, axis.width, axis.begin, axis.end, axis.fps)
        if not self._lines or self._lines[0][0] is not value or self._lines[0][1:] != key[1:]:
            frames = np.linspace(axis.begin - 0.5, axis.end - 0.5, max(int(axis.width / SAMPLE_PX), 2))
            # a hold changes within no time: its corner is drawn by two samples beside the key
            frames = np.sort(np.concatenate([frames, *([k.frame - 1e-6, k.frame] for k in value.keys)]))
            self._lines = (key, (frames, value.over(frames), speed(value, frames, axis.fps)))
        return self._lines[1]

    def _scale(self, value: Keyed) -> tuple[float, float]:
        """Lowest and highest value of the band; it keeps still while something is dragged."""
        if self._drag and self._drag[0] != "playhead":
            return self._drag[-1]
        _, values, _ = self._samples(value, self.axis())
        low, high = float(values.min()), float(values.max())
        room = max(0.08 * (high - low), 0.02 * max(abs(low), abs(high)), 1e-3)
        return low - room, high + room

    def _y(self, v: Any, scale: tuple[float, float]) -> Any:
        """Of one value, or of an array of them."""
        band = self._band()
        return band.bottom() - (v - scale[0]) / (scale[1] - scale[0]) * band.height()

    def _v(self, y: float, scale: tuple[float, float]) -> float:
        band = self._band()
        return scale[0] + (band.bottom() - y) / band.height() * (scale[1] - scale[0])

    def spots(self) -> list[tuple[str, float, int, QPointF]]:
        """What can be taken: ('key' | 'out' | 'in', frame of the key that leads there, component, place). Handles of chosen keys."""
        value = self.value()
        if value is None:
            return []
        axis, scale, found = self.axis(), self._scale(value), []
        for a, b in zip(value.keys, (*value.keys[1:], None), strict=True):
            for c, v in enumerate(a.value):
                found.append(("key", a.frame, c, QPointF(axis.x(a.frame), self._y(v, scale))))
            held = any((id_, part) == (self.id, self.part) and f in (a.frame, b.frame if b else None) for id_, part, f in self.session.keys)
            if b is None or not held or a.easing == "hold":
                continue
            c = busiest(a, b)
            x1, y1, x2, y2 = a.curve
            for end, x, y in (("out", x1, y1), ("in", x2, y2)):
                at = QPointF(axis.x(a.frame + x * (b.frame - a.frame)), self._y(a.value[c] + y * (b.value[c] - a.value[c]), scale))
                found.append((end, a.frame, c, at))
        return found

    # paint

    def refresh(self) -> None:
        value = self.value()
        frames = [f for id_, part, f in self.session.keys if (id_, part) == (self.id, self.part)] if value else []
        kinds = {k.easing for k in value.keys if k.frame in frames} if value else set()
        self.easing.setVisible(bool(kinds))  # with no key chosen it would ease nothing
        self.easing.setCurrentIndex(EASINGS.index(next(iter(kinds))) if len(kinds) == 1 else -1)
        self.update()

    def resizeEvent(self, event) -> None:
        self.easing.setGeometry(8, self.height() - 32, GUTTER - 16, 24)

    def paintEvent(self, event) -> None:
        p = QPainter(self)
        p.fillRect(self.rect(), QColor(theme.WINDOW))
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        axis, value = self.axis(), self.value()
        self._paint_names(p)
        if value is None:
            p.setPen(QColor(theme.QUIET))
            p.setFont(theme.font(12))
            words = "Nothing of what is in hand is keyed. Choose an object, go to a frame and press K, or switch on that drags set keys."
            p.drawText(
                QRectF(GUTTER + 6, 0, self.width() - GUTTER - 18, self.height()), Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, words
            )
        else:
            self._paint_curves(p, axis, value)
        x = axis.x(self.session.frame)
        axis.clip(p, self.height())
        p.setPen(QPen(QColor(theme.ACCENT), 1))
        p.drawLine(QPointF(x, 0), QPointF(x, self.height()))

    def _paint_names(self, p: QPainter) -> None:
        p.setFont(theme.font(12))
        things, held = keyed_things(self.session.shot), in_hand(self.session)
        for i, (id_, part) in enumerate(self.parts()):
            shown = (id_, part) == (self.id, self.part)
            if shown:
                p.fillRect(QRectF(0, i * LANE, GUTTER - 1, LANE), QColor(theme.CHOSEN_ROW))
            p.setPen(QColor(theme.TEXT if shown else theme.QUIET))
            name = Row(id_, things[id_], part, "" if id_ == held else held).name
            name = p.fontMetrics().elidedText(name, Qt.TextElideMode.ElideRight, GUTTER - 20)
            p.drawText(QRectF(12, i * LANE, GUTTER - 20, LANE), Qt.AlignmentFlag.AlignVCenter, name)

    def _paint_curves(self, p: QPainter, axis: TimeAxis, value: Keyed) -> None:
        frames, values, fast = self._samples(value, axis)
        scale, band, unit = self._scale(value), self._band(), self.unit()
        p.setFont(theme.font(11))
        for share in (0.0, 0.5, 1.0):
            v = scale[0] + share * (scale[1] - scale[0])
            y = self._y(v, scale)
            p.setPen(QPen(QColor(theme.LINE), 1))
            p.drawLine(QPointF(GUTTER, y), QPointF(self.width() - 12, y))
        p.setClipRect(QRectF(GUTTER, 0, self.width() - GUTTER, self.height()))
        xs = axis.left + (frames + 0.5 - axis.begin) * axis.room
        for c, tint in zip(range(values.shape[1]), COMPONENTS.get(values.shape[1], (theme.TEXT,) * values.shape[1]), strict=True):
            p.setPen(QPen(QColor(tint), 1.6))
            stroke(p, np.c_[xs, self._y(values[:, c], scale)])
        self._paint_speed(p, axis, value, xs, fast, unit)
        self._paint_spots(p, value)
        p.setClipping(False)
        digits = 2 if scale[1] - scale[0] > 0.2 else 4
        for share in (0.0, 0.5, 1.0):
            v = scale[0] + share * (scale[1] - scale[0])
            self._label(p, QPointF(GUTTER + 4, self._y(v, scale) - 7), length(v, unit, digits))
        name, of = shown(unit)
        now = " · ".join(figure(v / of, 2) for v in value.at(self.session.frame)[:3])
        p.setPen(QColor(theme.TEXT))
        p.drawText(QRectF(band.right() - 260, 0, 256, 14), Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, f"{now} {name}")

    def _paint_speed(self, p: QPainter, axis: TimeAxis, value: Keyed, xs: np.ndarray, fast: np.ndarray, unit: str) -> None:
        bottom, height = self.height() - 2.0, self.height() * SPEED_SHARE - EDGE
        most = float(np.percentile(fast, 99.5))
        top = max(1.15 * most, 1e-9)
        line = np.c_[xs, bottom - np.minimum(fast / top, 1.0) * height]
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(theme.colour(theme.READING, 0.16))
        p.drawPolygon(polygon(np.vstack([(xs[0], bottom), line, (xs[-1], bottom)])))
        p.setPen(QPen(theme.colour(theme.READING, 0.7), 1))
        p.drawPolyline(polygon(line))
        now = float(speed(value, np.array([float(self.session.frame)]), axis.fps)[0])
        self._label(
            p,
            QPointF(GUTTER + 4, bottom - height - 4),
            f"speed {length(now, unit, '.3g')}/s here · {figure(most / shown(unit)[1], '.3g')} at most",
        )

    @staticmethod
    def _label(p: QPainter, at: QPointF, words: str) -> None:
        """Quiet words on the ground of the window, so that no curve runs through them."""
        rect = QRectF(at.x(), at.y(), p.fontMetrics().horizontalAdvance(words) + 8, 14)
        p.fillRect(rect, theme.colour(theme.WINDOW, 0.85))
        p.setPen(QColor(theme.QUIET))
        p.drawText(rect.adjusted(4, 0, 0, 0), Qt.AlignmentFlag.AlignVCenter, words)

    def _paint_spots(self, p: QPainter, value: Keyed) -> None:
        spots, held = self.spots(), {f for id_, part, f in self.session.keys if (id_, part) == (self.id, self.part)}
        places = {(kind, f): at for kind, f, _, at in spots if kind != "key"}
        for (kind, f), at in places.items():
            a = next(k for k in value.keys if k.frame == f)
            b = value.keys[value.keys.index(a) + 1]
            key, c = (a if kind == "out" else b), busiest(a, b)
            p.setPen(QPen(theme.colour(theme.ACCENT, 0.8), 1))
            p.drawLine(QPointF(self.axis().x(key.frame), self._y(key.value[c], self._scale(value))), at)
            p.setBrush(QColor(theme.WINDOW))
            p.drawEllipse(at, 3.5, 3.5)
        p.setPen(Qt.PenStyle.NoPen)
        for kind, f, _, at in spots:
            if kind == "key":
                p.setBrush(QColor(theme.ACCENT if f in held else theme.TEXT))
                p.drawRoundedRect(QRectF(at.x() - 2.5, at.y() - 5, 5, 10), 2, 2)

    # mouse

    def mousePressEvent(self, event) -> None:
        at, session, value = event.position(), self.session, self.value()
        if at.x() <= GUTTER:
            names = list(self.parts())
            if 0 <= int(at.y() // LANE) < len(names):
                self.id, self.part = names[int(at.y() // LANE)]
                session.choose_keys(frozenset())
                self.refresh()
            return
        near = min(self.spots(), key=lambda s: (at - s[3]).manhattanLength(), default=None)
        taken = near is not None and (at - near[3]).manhattanLength() < 2 * REACH_PX
        if event.button() != Qt.MouseButton.LeftButton and not taken:
            return
        if value is None or not taken:
            session.choose_keys(frozenset())
            self._drag = ("playhead",)
            session.show_frame(self.axis().frame(at.x()))
            return
        kind, frame, component, _ = near
        if kind == "key":
            session.choose_keys(frozenset({(self.id, self.part, frame)}))
            session.show_frame(round(frame))
        scale = self._scale(value)
        self._drag = (kind, frame, component, at, object(), scale)

    def mouseMoveEvent(self, event) -> None:
        if not self._drag:
            return
        if self._drag[0] == "playhead":
            self.session.show_frame(self.axis().frame(event.position().x()))
            return
        kind, frame, component, start, _, _ = self._drag
        at = event.position()
        if event.modifiers() & Qt.KeyboardModifier.ShiftModifier and kind == "key":
            away = at - start
            at = QPointF(at.x(), start.y()) if abs(away.x()) > abs(away.y()) else QPointF(start.x(), at.y())
        if kind == "key":
            self._move_key(frame, component, start, at, bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier))
        else:
            self._move_handle(kind, frame, component, at)

    def _put(self, label: str, change: Callable[[Keyed], Keyed]) -> None:
        self.session.edit_value(label, self.id, self.part, change, self._drag[4])

    def _move_key(self, frame: float, component: int, start: QPointF, at: QPointF, copy: bool) -> None:
        axis, scale = self.axis(), self._drag[-1]
        by = round(axis.at(at.x()) - axis.at(start.x()))
        rise = self._v(at.y(), scale) - self._v(start.y(), scale)

        def change(value: Keyed) -> Keyed:
            old = next(k for k in value.keys if k.frame == frame).value
            raised = tuple(v + rise if c == component else v for c, v in enumerate(old))
            return moved_keys(value, [frame], by, copy).with_key(frame + by, raised)

        self._put("Copy key" if copy else "Move key", change)
        self.session.choose_keys(frozenset({(self.id, self.part, frame + by)}))

    def _move_handle(self, kind: str, frame: float, c: int, at: QPointF) -> None:
        when, level = self.axis().at(at.x()), self._v(at.y(), self._drag[-1])

        def change(value: Keyed) -> Keyed:
            a = next(k for k in value.keys if k.frame == frame)
            b = value.keys[value.keys.index(a) + 1]
            rise = b.value[c] - a.value[c]
            x = (when - a.frame) / (b.frame - a.frame)
            y = (level - a.value[c]) / rise if abs(rise) > 1e-9 else 0.0
            x1, y1, x2, y2 = a.curve
            return shaped(value, frame, (x, y, x2, y2) if kind == "out" else (x1, y1, x, y))

        self._put("Shape easing", change)

    def mouseReleaseEvent(self, event) -> None:
        self._drag = ()
        self.session.history.close_group()
        self.update()

    def mouseDoubleClickEvent(self, event) -> None:
        if event.position().x() > GUTTER and self.value() is not None:
            set_keys(self.session, [(self.id, self.part)], float(self.axis().frame(event.position().x())))

    def keyPressEvent(self, event) -> None:
        if event.key() in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace) and self.session.keys:
            self.session.delete_keys()
        else:
            super().keyPressEvent(event)


def busiest(a: Key, b: Key) -> int:
    """The component that changes most between two keys: its handles are the ones that can be seen apart."""
    return int(np.argmax(np.abs(np.subtract(b.value, a.value))))
