"""Time: the ruler with the playhead, the steadiness strip, and a lane for each object."""

import time

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt, QTimer
from PyQt6.QtGui import QColor, QPainter, QPen
from PyQt6.QtWidgets import QHBoxLayout, QScrollArea, QToolButton, QVBoxLayout, QWidget

from lodestar.core.shot.document import Shot, Title

from .. import theme
from ..pictures import Pictures
from ..session import Session

GUTTER, RULER, LANE = 120, 22, 18
STRIP_TOP_PX = 0.85
KEYED_PARTS = ("position", "turn", "size", "height", "depth", "bevel", "spacing", "roughness", "metal")


def key_frames(item) -> list[float]:
    """All frames at which anything of this object is keyed."""
    parts = KEYED_PARTS if isinstance(item, Title) else ("shape", "feather")
    return sorted({k.frame for part in parts for k in getattr(item, part).keys})


class TimeAxis:
    """Frames to px and back, for all parts of the time."""

    def __init__(self, session: Session, width: int) -> None:
        plate = session.shot.plate
        self.count = plate.count if plate else 100
        self.fps = plate.fps if plate else 25.0
        self.left, self.width = GUTTER, max(width - GUTTER - 12, 10)

    def x(self, frame: float) -> float:
        return self.left + (frame + 0.5) / self.count * self.width

    def frame(self, x: float) -> int:
        return int(np.clip((x - self.left) / self.width * self.count, 0, self.count - 1))


class Ruler(QWidget):
    """Ruler and strip; a click or drag moves the playhead, Shift drag sets in and out."""

    def __init__(self, session: Session, pictures: Pictures, canvas) -> None:
        super().__init__()
        self.session, self.pictures, self.canvas = session, pictures, canvas
        self.setObjectName("ruler")
        self.setAccessibleName("Time ruler and steadiness")
        self.setToolTip("Click or drag: go there · Shift drag: in and out · below: error by frame as height, few tracks as thin bars")
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self._start: int | None = None

    def paintEvent(self, event) -> None:
        p = QPainter(self)
        p.fillRect(self.rect(), QColor(theme.WINDOW))
        axis, session = TimeAxis(self.session, self.width()), self.session
        shot = session.shot
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        self._paint_range(p, axis, shot)
        p.setFont(theme.font(11))
        step = 5 if axis.width / axis.count > 1.2 else max(5, round(axis.fps))
        for f in range(0, axis.count, step):
            second = f % max(round(axis.fps), 1) == 0
            p.setPen(QPen(QColor(theme.QUIET if second else theme.LINE), 1))
            p.drawLine(QPointF(axis.x(f), RULER - (7 if second else 4)), QPointF(axis.x(f), RULER))
            if second and axis.width / axis.count * axis.fps > 34:
                p.drawText(QPointF(axis.x(f) + 3, 13), f"{f / axis.fps:.0f} s")
        self._paint_strip(p, axis, shot)
        self._paint_playhead(p, axis)

    def _paint_range(self, p: QPainter, axis: TimeAxis, shot: Shot) -> None:
        if shot.plate is None:
            return
        half = axis.width / axis.count / 2
        for a, b in ((0, shot.first - 1), (shot.last + 1, axis.count - 1)):
            if b >= a:
                p.fillRect(QRectF(axis.x(a) - half, 0, axis.x(b) - axis.x(a) + 2 * half, self.height()), theme.colour("#000000", 0.35))
        request = self.canvas.request()
        if request is not None:
            for f in self.pictures.kept_frames(request):
                p.fillRect(QRectF(axis.x(f) - half, RULER - 1, 2 * half, 1), theme.colour(theme.ACCENT, 0.6))

    def _paint_strip(self, p: QPainter, axis: TimeAxis, shot: Shot) -> None:
        bottom, top = self.height() - 1.0, RULER + 4.0
        p.setFont(theme.font(12))
        p.setPen(QColor(theme.TEXT))
        p.drawText(QRectF(12, RULER, 70, bottom - RULER), Qt.AlignmentFlag.AlignVCenter, "Steadiness")
        solve = shot.solve
        if solve is None:
            p.setPen(QColor(theme.QUIET))
            p.drawText(QRectF(GUTTER + 6, RULER, 400, bottom - RULER), Qt.AlignmentFlag.AlignVCenter, "the error of each frame, after the solve")
            return
        line = bottom - (bottom - top) * 0.5 / STRIP_TOP_PX
        p.setPen(QPen(QColor(theme.LINE), 1, Qt.PenStyle.DotLine))
        p.drawLine(QPointF(GUTTER, line), QPointF(self.width() - 12, line))
        p.setPen(QColor(theme.QUIET))
        p.setFont(theme.font(11))
        p.drawText(QRectF(80, line - 8, GUTTER - 86, 16), Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, "0.5 px")
        count = np.bincount(shot.tracks.frame[shot.tracks.kept()], minlength=axis.count) if shot.tracks is not None else np.full(axis.count, 100)
        room = axis.width / axis.count
        for f, e in zip(solve.frames, solve.frame_error, strict=True):
            if f >= axis.count:
                continue
            share = float(np.clip(count[f] / 200, 0.15, 1))
            width, height = max(1.0, (room - 0.8) * share), (bottom - top) * min(float(e) / STRIP_TOP_PX, 1.0)
            p.fillRect(QRectF(axis.x(int(f)) - width / 2, bottom - height, width, height), theme.error_colour(float(e)))

    def _paint_playhead(self, p: QPainter, axis: TimeAxis) -> None:
        x = axis.x(self.session.frame)
        p.setPen(QPen(QColor(theme.ACCENT), 1))
        p.drawLine(QPointF(x, 15), QPointF(x, self.height()))
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(QColor(theme.ACCENT))
        p.drawRoundedRect(QRectF(x - 19, 1, 38, 15), 3, 3)
        p.setPen(QColor(theme.ON_ACCENT))
        p.setFont(theme.font(11, 600))
        p.drawText(QRectF(x - 19, 1, 38, 15), Qt.AlignmentFlag.AlignCenter, f"{self.session.frame / axis.fps:.2f}")

    def mousePressEvent(self, event) -> None:
        axis = TimeAxis(self.session, self.width())
        if event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            self._start = axis.frame(event.position().x())
        else:
            self.session.show_frame(axis.frame(event.position().x()))

    def mouseMoveEvent(self, event) -> None:
        axis = TimeAxis(self.session, self.width())
        at = axis.frame(event.position().x())
        if self._start is not None and self.session.shot.plate:
            a, b = sorted((self._start, at))
            self.session.set("Set in and out", ("range", self._start), first=a, last=b)
        else:
            self.session.show_frame(at)

    def mouseReleaseEvent(self, event) -> None:
        self._start = None


class Lanes(QWidget):
    """A lane for each title and matte: its span and its keys. Click chooses; keys are dragged along time; Delete takes one away."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.setObjectName("lanes")
        self.setAccessibleName("Lanes of titles and mattes")
        self.setToolTip("Click chooses · drag a key along time · drag an end of a span · Delete takes the chosen key away")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.time: QWidget = self  # whose width is the scale; a scroll bar makes the lanes narrower than the ruler
        self.key: tuple[str, float] | None = None
        self._drag: tuple | None = None

    def items(self) -> list:
        shot = self.session.shot
        return [*[("titles", t) for t in shot.titles], *[("mattes", m) for m in shot.mattes]]

    def refresh(self) -> None:
        self.setMinimumHeight(len(self.items()) * LANE)
        self.update()

    def paintEvent(self, event) -> None:
        p = QPainter(self)
        p.fillRect(self.rect(), QColor(theme.WINDOW))
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        axis = TimeAxis(self.session, self.time.width())
        for i, (kind, item) in enumerate(self.items()):
            y = i * LANE
            chosen = item.id == self.session.selected
            if chosen:
                p.fillRect(QRectF(0, y, self.width(), LANE), QColor(theme.CHOSEN_ROW))
            p.setFont(theme.font(12))
            p.setPen(QColor(theme.TEXT if getattr(item, "visible", True) else theme.OFF))
            p.drawText(
                QRectF(12, y, GUTTER - 20, LANE),
                Qt.AlignmentFlag.AlignVCenter,
                p.fontMetrics().elidedText(item.name, Qt.TextElideMode.ElideRight, GUTTER - 20),
            )
            a, b = self._span(kind, item, axis)
            half = axis.width / axis.count / 2
            p.setPen(Qt.PenStyle.NoPen)
            p.setBrush(QColor("#565B60" if kind == "titles" else theme.OFF))
            p.drawRect(QRectF(axis.x(a) - half, y + 5, axis.x(b) - axis.x(a) + 2 * half, 8))
            frames = key_frames(item)
            if len(frames) > 1:
                p.setPen(QPen(QColor(theme.READING), 1))
                p.drawLine(QPointF(axis.x(frames[0]), y + 9), QPointF(axis.x(frames[-1]), y + 9))
            for f in frames:
                held = self.key == (item.id, f)
                p.setPen(Qt.PenStyle.NoPen)
                p.setBrush(QColor(theme.ACCENT if held else theme.TEXT))
                w, h = (6, 13) if held else (4, 10)
                p.drawRoundedRect(QRectF(axis.x(f) - w / 2, y + 9 - h / 2, w, h), 2, 2)
        x = axis.x(self.session.frame)
        p.setPen(QPen(QColor(theme.ACCENT), 1))
        p.drawLine(QPointF(x, 0), QPointF(x, self.height()))

    @staticmethod
    def _span(kind: str, item, axis: TimeAxis) -> tuple[int, int]:
        span = getattr(item, "span", None)
        return span if span is not None else (0, axis.count - 1)

    def _at(self, position: QPointF):
        i = int(position.y() // LANE)
        items = self.items()
        return items[i] if 0 <= i < len(items) else (None, None)

    def mousePressEvent(self, event) -> None:
        kind, item = self._at(event.position())
        axis = TimeAxis(self.session, self.time.width())
        self.key = self._drag = None
        if item is None:
            return
        self.session.select(item.id)
        x = event.position().x()
        near = [f for f in key_frames(item) if abs(axis.x(f) - x) < 5]
        a, b = self._span(kind, item, axis)
        half = axis.width / axis.count / 2
        if near:
            self.key = (item.id, near[0])
            self._drag = ("key", kind, item, near[0], object())
            self.session.show_frame(round(near[0]))
        elif kind == "titles" and min(abs(axis.x(a) - half - x), abs(axis.x(b) + half - x)) < 5:
            self._drag = ("first" if abs(axis.x(a) - half - x) < 5 else "last", kind, item, (a, b), object())
        elif x > GUTTER:
            self._drag = ("playhead",)
            self.session.show_frame(axis.frame(x))
        self.update()

    def mouseMoveEvent(self, event) -> None:
        if self._drag is None:
            return
        axis = TimeAxis(self.session, self.time.width())
        to = axis.frame(event.position().x())
        what = self._drag[0]
        if what == "playhead":
            self.session.show_frame(to)
        elif what == "key":
            _, kind, item, old, group = self._drag
            parts = KEYED_PARTS if kind == "titles" else ("shape", "feather")
            fields = {part: getattr(item, part).moved_key(old, float(to)) for part in parts if getattr(item, part).has_key(old)}
            self.session.edit_item("Move key", kind, item.id, group, **fields)
            self.key = (item.id, float(to))
            self.session.show_frame(to)
        else:
            _, kind, item, (a, b), group = self._drag
            span = (min(to, b), b) if what == "first" else (a, max(to, a))
            self.session.edit_item("Change span", kind, item.id, group, span=span)

    def mouseReleaseEvent(self, event) -> None:
        self._drag = None
        self.session.history.close_group()

    def keyPressEvent(self, event) -> None:
        if event.key() in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace) and self.key is not None:
            id_, frame = self.key
            for kind, item in self.items():
                if item.id == id_:
                    parts = KEYED_PARTS if kind == "titles" else ("shape", "feather")
                    fields = {part: getattr(item, part).without_key(frame) for part in parts if getattr(item, part).has_key(frame)}
                    self.session.edit_item("Delete key", kind, id_, **fields)
            self.key = None
        else:
            super().keyPressEvent(event)


class Player(QWidget):
    """Play button and the frame on show. Plays in real time: frames are dropped, the clock is not."""

    def __init__(self, session: Session, canvas) -> None:
        super().__init__()
        self.session, self.canvas = session, canvas
        self.setFixedSize(GUTTER - 2, RULER)
        row = QHBoxLayout(self)
        row.setContentsMargins(6, 0, 0, 0)
        self.button = QToolButton()
        self.button.setObjectName("play")
        self.button.setToolTip("Play or stop (Space)")
        self.button.setFixedSize(22, 20)
        self.button.setStyleSheet("padding: 0;")
        self.button.clicked.connect(self.toggle)
        row.addWidget(self.button)
        row.addStretch(1)
        self.timer = QTimer(self, interval=8)
        self.timer.setTimerType(Qt.TimerType.PreciseTimer)
        self.timer.timeout.connect(self._tick)
        self._show_icon()

    @property
    def playing(self) -> bool:
        return self.timer.isActive()

    def toggle(self) -> None:
        shot = self.session.shot
        if shot.plate is None:
            return
        if self.playing:
            self.timer.stop()
        else:
            self.began, self.from_ = time.perf_counter(), self.session.frame if shot.first <= self.session.frame < shot.last else shot.first
            self.timer.start()
        self._show_icon()

    def _show_icon(self) -> None:
        self.button.setIcon(theme.icon("pause" if self.playing else "play"))
        self.button.setAccessibleName("Stop" if self.playing else "Play")

    def _tick(self) -> None:
        shot = self.session.shot
        if shot.plate is None:
            self.toggle()
            return
        gone = int((time.perf_counter() - self.began) * shot.plate.fps)
        length = shot.last - shot.first + 1
        self.session.show_frame(shot.first + (self.from_ - shot.first + gone) % length)

    def paintEvent(self, event) -> None:
        p = QPainter(self)
        p.setFont(theme.font(12))
        plate = self.session.shot.plate
        p.setPen(QColor(theme.TEXT))
        p.drawText(QRectF(34, 0, 80, RULER), Qt.AlignmentFlag.AlignVCenter, f"{self.session.frame} / {plate.count if plate else 0}")


class Time(QWidget):
    def __init__(self, session: Session, pictures: Pictures, canvas) -> None:
        super().__init__()
        self.session = session
        self.setObjectName("time")
        self.setFixedHeight(124)
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 1, 0, 0)
        box.setSpacing(0)
        self.ruler, self.lanes = Ruler(session, pictures, canvas), Lanes(session)
        box.addWidget(self.ruler)
        scroll = QScrollArea(widgetResizable=True)
        self.lanes.time = self
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setFrameShape(QScrollArea.Shape.NoFrame)
        scroll.setWidget(self.lanes)
        box.addWidget(scroll, 1)
        self.player = Player(session, canvas)
        self.player.setParent(self)
        self.player.move(0, 1)
        session.shot_changed.connect(self.refresh)
        session.view_changed.connect(self.refresh)
        session.frame_changed.connect(lambda _: self._moved())
        canvas.picture_changed.connect(self.ruler.update)
        self.refresh()

    def refresh(self) -> None:
        self.ruler.setFixedHeight(RULER + (48 if self.session.step in ("Track", "Solve") else 30))
        self.lanes.refresh()
        self.ruler.update()
        self.player.update()

    def _moved(self) -> None:
        self.ruler.update()
        self.lanes.update()
        self.player.update()

    def paintEvent(self, event) -> None:
        p = QPainter(self)
        p.fillRect(0, 0, self.width(), 1, QColor(theme.LINE))
