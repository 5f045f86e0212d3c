"""The left edge: the nine steps with their readings, and at the foot the running work."""

import time

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen, QPolygonF
from PyQt6.QtWidgets import QPushButton, QVBoxLayout, QWidget

from lodestar.core.edits.lights import sun_of
from lodestar.core.shot.swaps import age_in_words

from . import readings, theme
from .session import STEPS, Gently, Session

DRAWING_WIDTH = 44
HELP = {
    "Plate": "The clip, and the part of it that is used",
    "Track": "Follow features through the clip",
    "Solve": "Find how the camera moved",
    "Ground": "Say where the ground and the origin are",
    "Place": "Stand titles in the scene",
    "Light": "Sun, sky and the shadow on the ground",
    "Foreground": "What passes in front of the titles",
    "Finish": "Make it belong: motion blur, and what is done to the picture",
    "Output": "Write the finished movie or pictures",
}
STATE_COLOURS = {
    readings.GOOD: theme.GOOD,
    readings.DOUBTFUL: theme.DOUBTFUL,
    readings.BAD: theme.BAD,
    readings.STALE: theme.READING,
    readings.WORKING: theme.ACCENT,
    readings.EMPTY: theme.OFF,
}


def time_left(seconds: float | None) -> str:
    return "" if seconds is None else f"{int(seconds) // 60}:{int(seconds) % 60:02} left"


class Row(QWidget):
    """One step: mark, name, reading. A click or Enter chooses it."""

    def __init__(self, session: Session, step: str) -> None:
        super().__init__()
        self.session, self.step = session, step
        self.setObjectName(f"step-{step.lower()}")
        self.setAccessibleName(f"{step} step")
        self.setToolTip(HELP[step])
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setMinimumHeight(52)
        self.link = QPushButton(self)
        self.link.setProperty("role", "link")
        self.link.setCursor(Qt.CursorShape.PointingHandCursor)
        self.link.hide()
        self.reading = readings.Reading(readings.EMPTY, "")
        self._look: tuple = ()

    def update_reading(self, mend) -> None:
        jobs, shot = self.session.jobs, self.session.shot
        if jobs.job is not None and jobs.step == self.step:
            reading = readings.Reading(readings.WORKING, f"{jobs.job.share:.0%} · {jobs.job.text}", time_left(jobs.job.time_left_s))
        else:
            reading = readings.READINGS[self.step](shot)
        if reading.mend and jobs.busy:
            reading = reading._replace(mend=None, second="wait for the work below")
        if reading != self.reading:
            self.reading = reading
            self.setAccessibleDescription(f"{reading.state}: {reading.first} {reading.second}")
            self.setToolTip(f"{HELP[self.step]}\n{reading.hover}" if reading.hover else HELP[self.step])
            self.link.setVisible(reading.mend is not None)
            if reading.mend:
                self.link.setText(reading.mend[0])
                self.link.setStyleSheet("font-size: 12px;")
                self.link.adjustSize()
                self.link.move(40, 42)
                if self.link.receivers(self.link.clicked):
                    self.link.clicked.disconnect()
                command = reading.mend[1]
                self.link.clicked.connect(lambda: mend(command))
        # its small drawing shows the solve or the light; a drag in the picture changes none of this
        look = (reading, self.session.step == self.step, id(shot.solve), id(shot.lamps))
        if look != self._look or reading.state == readings.WORKING:
            self._look = look
            self.update()

    def mousePressEvent(self, event) -> None:
        self.session.show_step(self.step)

    def keyPressEvent(self, event) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
            self.session.show_step(self.step)
        elif event.key() in (Qt.Key.Key_Down, Qt.Key.Key_Up):
            self.focusNextPrevChild(event.key() == Qt.Key.Key_Down)
        else:
            super().keyPressEvent(event)

    def paintEvent(self, event) -> None:
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        chosen = self.session.step == self.step
        p.fillRect(self.rect(), QColor(theme.CHOSEN_ROW if chosen else theme.PANEL))
        if chosen:
            p.fillRect(0, 0, 2, self.height(), QColor(theme.ACCENT))
        if self.hasFocus():
            p.setPen(QPen(QColor(theme.ACCENT), 1))
            p.drawRect(self.rect().adjusted(3, 1, -2, -2))
        p.setPen(QPen(QColor(theme.LINE if not chosen else theme.CHOSEN_SEGMENT), 1))
        place = STEPS.index(self.step)
        if place > 0:
            p.drawLine(QPointF(20, 0), QPointF(20, 12))
        if place < len(STEPS) - 1:
            p.drawLine(QPointF(20, 28), QPointF(20, self.height()))
        paint_mark(p, QPointF(20, 20), self.reading.state)
        empty = self.reading.state == readings.EMPTY
        p.setFont(theme.font(13, 600))
        p.setPen(QColor(theme.QUIET if empty else theme.TEXT))
        p.drawText(QRectF(40, 10, self.width() - 48, 20), Qt.AlignmentFlag.AlignVCenter, self.step)
        p.setFont(theme.font(12))
        p.setPen(QColor(theme.OFF if empty else theme.READING))
        metrics, room = p.fontMetrics(), self.width() - 48
        p.drawText(QRectF(40, 28, room, 16), Qt.AlignmentFlag.AlignVCenter, metrics.elidedText(self.reading.first, Qt.TextElideMode.ElideRight, room))
        if not self.reading.mend and self.height() >= 60:  # in a low window it would be cut
            p.setPen(QColor(theme.QUIET))
            p.drawText(
                QRectF(40, 44, room, 16), Qt.AlignmentFlag.AlignVCenter, metrics.elidedText(self.reading.second, Qt.TextElideMode.ElideRight, room)
            )
        if self.reading.state == readings.WORKING and self.session.jobs.job:
            p.fillRect(QRectF(40, 62, room - 4, 2), QColor(theme.LINE))
            p.fillRect(QRectF(40, 62, (room - 4) * self.session.jobs.job.share, 2), QColor(theme.ACCENT))
        self._small_drawing(p)

    def _small_drawing(self, p: QPainter) -> None:
        """The error over time, beside Solve; the sun's dial, beside Light."""
        shot = self.session.shot
        right = self.width() - 12
        if self.step == "Solve" and shot.solve is not None and self.reading.state != readings.WORKING:
            error = shot.solve.frame_error
            # two for each px of its width: the worst frame of each part of a long clip
            worst = np.maximum.reduceat(error, np.unique(np.linspace(0, len(error) - 1, 2 * DRAWING_WIDTH + 1).astype(int)))
            left, step = right - DRAWING_WIDTH, DRAWING_WIDTH / max(len(worst) - 1, 1)
            points = [QPointF(left + step * i, 24 - 10 * min(float(e) / 0.85, 1)) for i, e in enumerate(worst)]
            p.setPen(QPen(QColor(theme.QUIET), 1))
            p.drawPolyline(QPolygonF(points))
        sun = sun_of(shot)
        if self.step == "Light" and shot.objects and sun is not None and sun.on:
            bearing = np.deg2rad(sun.bearing.at(self.session.frame)[0])
            p.setPen(QPen(QColor(theme.QUIET), 1))
            p.drawEllipse(QPointF(right - 8, 20), 6.5, 6.5)
            p.setPen(QPen(QColor(theme.TEXT), 1.5))
            p.drawLine(QPointF(right - 8, 20), QPointF(right - 8 + 6 * np.sin(bearing), 20 - 6 * np.cos(bearing)))


def paint_mark(p: QPainter, c: QPointF, state: str) -> None:
    """The shape of a state; all differ without colour."""
    tint = QColor(STATE_COLOURS[state])
    p.save()
    p.setPen(Qt.PenStyle.NoPen)
    p.setBrush(tint)
    if state == readings.GOOD:
        p.drawEllipse(c, 4.5, 4.5)
    elif state == readings.BAD:
        p.drawRect(QRectF(c.x() - 4.5, c.y() - 4.5, 9, 9))
    elif state == readings.DOUBTFUL:
        p.drawChord(QRectF(c.x() - 4.5, c.y() - 4.5, 9, 9), 180 * 16, 180 * 16)
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.setPen(QPen(tint, 1.2))
        p.drawEllipse(c, 4.5, 4.5)
    else:
        p.setBrush(Qt.BrushStyle.NoBrush)
        pen = QPen(tint, 1.4)
        if state == readings.STALE:
            pen.setDashPattern([2.2, 1.6])
        p.setPen(pen)
        if state == readings.WORKING:
            p.drawArc(QRectF(c.x() - 4.5, c.y() - 4.5, 9, 9), int(time.monotonic() * 4000) % 5760, 270 * 16)
        else:
            radius = 2.2 if state == readings.EMPTY else 4.5
            p.drawEllipse(c, radius, radius)
    p.restore()


class Foot(QWidget):
    """Running work with its Cancel, the autosave, and the messages."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.setObjectName("foot")
        self.cancel = QPushButton("Cancel", self)
        self.cancel.setObjectName("cancel-job")
        self.cancel.setProperty("role", "link")
        self.cancel.setToolTip("Stop this work; the shot stays as it was")
        self.cancel.clicked.connect(session.jobs.cancel)
        self.messages = QPushButton(self)
        self.messages.setObjectName("messages")
        self.messages.setProperty("role", "link")
        self.messages.setToolTip("What was told so far")

    def refresh(self) -> None:
        self.cancel.setVisible(self.session.jobs.busy)
        count = len(self.session.messages)
        self.messages.setText(str(count) if count else "none")
        self._arrange()
        self.update()

    def resizeEvent(self, event) -> None:
        self._arrange()

    def _arrange(self) -> None:
        self.cancel.adjustSize()
        self.cancel.move(self.width() - 12 - self.cancel.width(), 30)
        self.messages.adjustSize()
        self.messages.move(self.width() - 12 - self.messages.width(), self.height() - 24)

    def paintEvent(self, event) -> None:
        p = QPainter(self)
        p.fillRect(self.rect(), QColor(theme.PANEL))
        p.fillRect(0, 0, self.width(), 1, QColor(theme.LINE))
        p.setFont(theme.font(12))
        jobs, room = self.session.jobs, self.width() - 24
        left, right = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        if jobs.job is not None:
            p.setPen(QColor(theme.TEXT))
            p.drawText(QRectF(12, 8, room, 16), left, jobs.name)
            p.drawText(QRectF(12, 8, room, 16), right, time_left(jobs.job.time_left_s))
            p.fillRect(QRectF(12, 27, room, 2), QColor(theme.LINE))
            p.fillRect(QRectF(12, 27, room * jobs.job.share, 2), QColor(theme.ACCENT))
            p.setPen(QColor(theme.QUIET))
            p.drawText(QRectF(12, 32, room - 50, 16), left, jobs.job.text)
        else:
            p.setPen(QColor(theme.QUIET))
            p.drawText(QRectF(12, 8, room, 16), left, "No work running")
        p.setPen(QColor(theme.QUIET))
        how, since = self.session.files.standing
        p.drawText(QRectF(12, self.height() - 42, room, 16), left, how)
        p.drawText(QRectF(12, self.height() - 42, room, 16), right, age_in_words(since) if since else "")
        p.drawText(QRectF(12, self.height() - 24, room, 16), left, "Messages")


class Course(QWidget):
    """All rows above, the foot below; the rows end where the viewer ends."""

    def __init__(self, session: Session, mend) -> None:
        super().__init__()
        self.setObjectName("course")
        self.setFixedWidth(theme.COURSE_WIDTH)
        self.session, self.mend = session, mend
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        box.setSpacing(0)
        self.rows = [Row(session, step) for step in STEPS]
        for row in self.rows:
            box.addWidget(row, 1)
        self.foot = Foot(session)
        self.foot.setFixedHeight(124)
        box.addWidget(self.foot)
        self._gently = Gently(session, self.refresh)
        session.jobs.changed.connect(self.refresh)
        session.jobs.moved.connect(self._move)
        session.told.connect(lambda _: self.refresh())
        session.autosaved.connect(self.foot.refresh)
        self.refresh()

    def refresh(self) -> None:
        for row in self.rows:
            row.update_reading(self.mend)
        self.foot.refresh()

    def _move(self) -> None:
        """What the running work tells of itself; nothing else changes meanwhile."""
        for row in self.rows:
            if row.step == self.session.jobs.step:
                row.update_reading(self.mend)
        self.foot.refresh()
