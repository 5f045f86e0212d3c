"""The ruler: playhead, in and out, markers, which frames are ready, and the steadiness strip."""

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen, QPixmap
from PyQt6.QtWidgets import QLineEdit, QWidget

from lodestar.core.shot.document import Marker, Shot, with_marker, without_marker

from .. import theme
from ..measures import figure
from ..pictures import Pictures
from ..session import Session
from .axis import GUTTER, REACH_PX, RULER, TimeAxis

STRIP_TOP_PX = 0.85
NAMED_S = (1, 2, 5, 10, 30, 60, 120, 300, 600, 1800, 3600)  # between the times that are named
NAME_PX, TICK_PX = 34, 4  # room for a name; for a tick


class Ruler(QWidget):
    """Ruler and strip; a click or drag moves the playhead, Shift drag sets in and out, Ctrl drag the part that plays."""

    def __init__(self, session: Session, pictures: Pictures, canvas) -> None:
        super().__init__()
        self.session, self.pictures, self.canvas = session, pictures, canvas
        self.setObjectName("ruler")
        self.setAccessibleName("Time ruler and steadiness")
        self.setToolTip(
            "Click or drag: go there · Shift drag: in and out · Ctrl drag: the part that plays, Ctrl click plays all · drag a marker, double click names it\n"
            "Wheel: zoom of time · Shift and wheel, or middle drag: along it\nBelow: error by frame as height, few tracks as thin bars"
        )
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self._start: int | None = None
        self._loop: int | None = None
        self._marker: tuple | None = None
        self._kept: set[int] = set()  # frames that are shown as ready
        self._bars: tuple = ()  # what the bars of the strip were drawn from, and their picture
        self.editor = QLineEdit(self)
        self.editor.setObjectName("marker-name")
        self.editor.setAccessibleName("Name of the marker")
        self.editor.setToolTip("What is to be found at this frame; Enter keeps it")
        self.editor.hide()
        self.editor.editingFinished.connect(self._named)

    def paintEvent(self, event) -> None:
        p = QPainter(self)
        p.fillRect(self.rect(), QColor(theme.WINDOW))
        axis, session = TimeAxis(self.session, self.width()), self.session
        shot = session.shot
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        self._paint_strip_name(p, axis, shot)
        axis.clip(p, self.height())
        self._paint_range(p, axis, shot)
        self._paint_ticks(p, axis)
        self._paint_strip(p, axis, shot)
        self._paint_markers(p, axis, shot)
        self._paint_playhead(p, axis)

    def _paint_ticks(self, p: QPainter, axis: TimeAxis) -> None:
        """A tick for each frame, fifth frame or second, as they have room; longer ones with their time where that has room."""
        second = max(round(axis.fps), 1)
        named = second * next((s for s in NAMED_S if s * second * axis.room > NAME_PX), NAMED_S[-1])
        step = 1 if axis.room > 9 else 5 if axis.room > 1.2 else second if second * axis.room > TICK_PX else named
        p.setFont(theme.font(11))
        for f in range(int(axis.begin) // step * step, min(axis.count, int(axis.end) + 1), step):
            longer = f % second == 0 and (step < second or f % named == 0)
            p.setPen(QPen(QColor(theme.QUIET if longer else theme.LINE), 1))
            p.drawLine(QPointF(axis.x(f), RULER - (7 if longer else 4)), QPointF(axis.x(f), RULER))
            if f % named == 0:
                p.drawText(QPointF(axis.x(f) + 3, 13), f"{figure(f / axis.fps, 0)} s")

    def _paint_range(self, p: QPainter, axis: TimeAxis, shot: Shot) -> None:
        if shot.plate is None:
            return
        half = axis.half
        for a, b in ((0, shot.first - 1), (shot.last + 1, axis.count - 1)):
            if b >= a:
                p.fillRect(QRectF(axis.x(a) - half, 0, axis.x(b) - axis.x(a) + 2 * half, self.height()), theme.colour("#000000", 0.35))
        if self.session.loop is not None:
            left, right = (axis.x(f) for f in self.session.loop)
            p.fillRect(QRectF(left - half, 0, right - left + 2 * half, 2), QColor(theme.READING))
            for x in (left - half, right + half - 2):
                p.fillRect(QRectF(x, 0, 2, 7), QColor(theme.READING))
        self._kept = self._kept_frames()
        for f in self._kept:
            p.fillRect(QRectF(axis.x(f) - half, RULER - 1, 2 * half, 1), theme.colour(theme.ACCENT, 0.6))

    def _kept_frames(self) -> set[int]:
        request = self.canvas.request()
        return set() if request is None else self.pictures.kept_frames(request)

    def show_kept(self) -> None:
        """A picture was made: which frames are ready may have changed."""
        if self._kept_frames() != self._kept:
            self.update()

    def _paint_strip_name(self, p: QPainter, axis: TimeAxis, shot: Shot) -> None:
        bottom, top = self.height() - 1.0, RULER + 4.0
        p.setFont(theme.font(12))
        p.setPen(QColor(theme.TEXT))
        p.drawText(QRectF(12, RULER, 70, bottom - RULER), Qt.AlignmentFlag.AlignVCenter, "Steadiness")
        if shot.solve is not None:
            line = bottom - (bottom - top) * 0.5 / STRIP_TOP_PX
            p.setPen(QColor(theme.QUIET))
            p.setFont(theme.font(11))
            p.drawText(QRectF(80, line - 8, GUTTER - 86, 16), Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, f"{figure(0.5)} px")

    def _paint_strip(self, p: QPainter, axis: TimeAxis, shot: Shot) -> None:
        bottom, top = self.height() - 1.0, RULER + 4.0
        solve = shot.solve
        if solve is None:
            p.setPen(QColor(theme.QUIET))
            p.drawText(QRectF(GUTTER + 6, RULER, 400, bottom - RULER), Qt.AlignmentFlag.AlignVCenter, "the error of each frame, after the solve")
            return
        line = bottom - (bottom - top) * 0.5 / STRIP_TOP_PX
        p.setPen(QPen(QColor(theme.LINE), 1, Qt.PenStyle.DotLine))
        p.drawLine(QPointF(GUTTER, line), QPointF(self.width() - 12, line))
        made_of = (solve, shot.tracks, axis.count, axis.begin, axis.end, self.size(), self.devicePixelRatioF())
        if not self._bars or any(x is not y and x != y for x, y in zip(self._bars[0], made_of, strict=True)):
            self._bars = (made_of, self._draw_bars(axis, shot, top, bottom))
        p.drawPixmap(0, 0, self._bars[1])

    def _draw_bars(self, axis: TimeAxis, shot: Shot, top: float, bottom: float) -> QPixmap:
        """A bar for each frame, drawn once: the strip is repainted with each picture."""
        pixmap = QPixmap(self.size() * self.devicePixelRatioF())
        pixmap.setDevicePixelRatio(self.devicePixelRatioF())
        pixmap.fill(Qt.GlobalColor.transparent)
        count = np.bincount(shot.tracks.frame[shot.tracks.kept()], minlength=axis.count) if shot.tracks is not None else np.full(axis.count, 100)
        room, p = axis.room, QPainter(pixmap)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        frames, errors = np.asarray(shot.solve.frames), np.asarray(shot.solve.frame_error)
        shown = np.flatnonzero((frames < axis.count) & (frames > axis.begin - 1) & (frames < axis.end + 1))
        middles = axis.left + (frames + 0.5 - axis.begin) * room
        if room < 1:  # of frames that share a px the worst one is seen: a bar for each took 43 ms for a minute
            shown = shown[np.argsort(-errors[shown], kind="stable")]
            shown = shown[np.unique(middles[shown].astype(int), return_index=True)[1]]
            middles = np.floor(middles) + 0.5
        widths = np.maximum((room - 0.8) * np.clip(count[frames[shown]] / 200, 0.15, 1), 1.0)
        for x, width, e in zip(middles[shown].tolist(), widths.tolist(), errors[shown].tolist(), strict=True):
            height = (bottom - top) * min(e / STRIP_TOP_PX, 1.0)
            p.fillRect(QRectF(x - width / 2, bottom - height, width, height), theme.error_colour(e))
        p.end()
        return pixmap

    def _paint_playhead(self, p: QPainter, axis: TimeAxis) -> None:
        x = axis.x(self.session.frame)
        p.setPen(QPen(QColor(theme.ACCENT), 1))
        p.drawLine(QPointF(x, 15), QPointF(x, self.height()))
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(QColor(theme.ACCENT))
        flag = QRectF(max(x - 19, GUTTER), 1, 38, 15)  # clear of the buttons at the left
        p.drawRoundedRect(flag, 3, 3)
        p.setPen(QColor(theme.ON_ACCENT))
        p.setFont(theme.font(11, 600))
        p.drawText(flag, Qt.AlignmentFlag.AlignCenter, figure(self.session.frame / axis.fps, 2))

    def _paint_markers(self, p: QPainter, axis: TimeAxis, shot: Shot) -> None:
        """A line through the strip with its name on a small flag; the next marker cuts a long name."""
        p.setFont(theme.font(11))
        for marker, after in zip(shot.markers, (*shot.markers[1:], None), strict=False):
            x = axis.x(marker.frame)
            p.setPen(QPen(theme.colour(theme.READING, 0.7), 1))
            p.drawLine(QPointF(x, RULER - 8), QPointF(x, self.height()))
            p.setPen(Qt.PenStyle.NoPen)
            p.setBrush(QColor(theme.READING))
            p.drawRoundedRect(QRectF(x - 2, RULER - 10, 4, 10), 1, 1)
            room = (axis.x(after.frame) if after else self.width()) - x - 8
            p.setPen(QColor(theme.TEXT))
            p.drawText(
                QRectF(x + 5, RULER + 1, room, 14),
                Qt.AlignmentFlag.AlignVCenter,
                p.fontMetrics().elidedText(marker.text, Qt.TextElideMode.ElideRight, int(max(room, 0))),
            )

    def _marker_at(self, position: QPointF) -> Marker | None:
        axis = TimeAxis(self.session, self.width())
        near = [m for m in self.session.shot.markers if abs(axis.x(m.frame) - position.x()) < REACH_PX and position.y() > RULER - 12]
        return near[0] if near else None

    def name_marker(self, frame: int) -> None:
        """Write the name of the marker at a frame."""
        marker = next((m for m in self.session.shot.markers if m.frame == frame), None)
        if marker is None:
            return
        self._naming = frame
        x = int(min(TimeAxis(self.session, self.width()).x(frame) + 4, self.width() - 164))
        self.editor.setGeometry(x, RULER - 2, 160, 22)
        self.editor.setText(marker.text)
        self.editor.show()
        self.editor.setFocus()
        self.editor.selectAll()

    def _named(self) -> None:
        if self.editor.isVisible():
            self.editor.hide()
            frame, text = self._naming, self.editor.text().strip()
            if any(m.frame == frame and m.text != text for m in self.session.shot.markers):
                self.session.edit("Name marker", lambda s: with_marker(s, Marker(frame, text)))

    def mouseDoubleClickEvent(self, event) -> None:
        marker = self._marker_at(event.position())
        if marker is not None:
            self.name_marker(marker.frame)

    def mousePressEvent(self, event) -> None:
        axis = TimeAxis(self.session, self.width())
        marker = self._marker_at(event.position())
        if marker is not None and not event.modifiers():
            self._marker = (marker, object())
            self.session.show_frame(marker.frame)
        elif event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            self._start = axis.frame(event.position().x())
        elif event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self._loop = axis.frame(event.position().x())
            self.session.play_only(None)
        else:
            self.session.show_frame(axis.frame(event.position().x()))

    def mouseMoveEvent(self, event) -> None:
        axis = TimeAxis(self.session, self.width())
        at = axis.frame(event.position().x())
        if self._marker is not None:
            marker, group = self._marker

            def move(shot: Shot) -> Shot:
                return with_marker(without_marker(shot, marker.frame), Marker(at, marker.text)) if at != marker.frame else shot

            self.session.edit("Move marker", move, group)
            self.session.show_frame(at)
        elif self._start is not None and self.session.shot.plate:
            a, b = sorted((self._start, at))
            self.session.set("Set in and out", ("range", self._start), first=a, last=b)
        elif self._loop is not None:
            self.session.play_only((min(self._loop, at), max(self._loop, at)))
        else:
            self.session.show_frame(at)

    def mouseReleaseEvent(self, event) -> None:
        self._start = self._loop = self._marker = None
        self.session.history.close_group()
