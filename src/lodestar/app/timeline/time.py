"""Time: the ruler with the steadiness strip, under it lanes or curves, and the player."""

import time

from PyQt6.QtCore import QRectF, Qt, QTimer
from PyQt6.QtGui import QColor, QFontMetrics, QPainter
from PyQt6.QtWidgets import QHBoxLayout, QScrollArea, QStackedWidget, QToolButton, QVBoxLayout, QWidget

from .. import theme
from ..fields import icon_button
from ..pictures import Pictures
from ..session import Gently, Session
from .axis import GUTTER, RULER, TimeAxis
from .curves import Curves
from .lanes import Lanes
from .ruler import Ruler

LANES_HEIGHT, CURVES_HEIGHT, LEAST_HEIGHT = 126, 246, 100
ZOOM_STEP, PAN_SHARE, PAGE_SHARE = 1.25, 0.1, 0.05
GRIP = 3  # px of the upper edge by which the height is dragged


class Player(QWidget):
    """Play button and the frame on show. Plays in real time: frames are dropped, the clock is not."""

    def __init__(self, session: Session, canvas) -> None:
        super().__init__()
        self.session, self.canvas = session, canvas
        self.setFixedSize(GUTTER - 28, RULER)
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
            first, last = self.session.loop or (shot.first, shot.last)
            self.began, self.from_ = time.perf_counter(), self.session.frame if first <= self.session.frame < last else first
            self.timer.start()
        self._show_icon()
        self.session.set_playing(self.playing)

    def _show_icon(self) -> None:
        self.button.setIcon(theme.icon("pause" if self.playing else "play"))
        self.button.setAccessibleName("Stop" if self.playing else "Play")

    def _tick(self) -> None:
        shot = self.session.shot
        if shot.plate is None:
            self.toggle()
            return
        gone = int((time.perf_counter() - self.began) * shot.plate.fps)
        first, last = self.session.loop or (shot.first, shot.last)
        self.session.show_frame(first + (self.from_ - first + gone) % (last - first + 1))

    def paintEvent(self, event) -> None:
        p = QPainter(self)
        p.setFont(theme.font(12))
        plate = self.session.shot.plate
        p.setPen(QColor(theme.TEXT))
        p.drawText(QRectF(32, 0, self.width() - 32, RULER), Qt.AlignmentFlag.AlignVCenter, self.words(p.fontMetrics(), plate.count if plate else 0))

    def words(self, metrics: QFontMetrics, count: int) -> str:
        """The frame on show and how many there are, as they have room: of a long clip closer together, then without the number of all."""
        frame = self.session.frame
        told = (f"{frame} / {count}", f"{frame}/{count}", f"{frame}")
        return next((words for words in told if metrics.horizontalAdvance(words) <= self.width() - 32), told[-1])


class Time(QWidget):
    """Its upper edge is dragged for more room; the height is remembered, for lanes and for curves."""

    def __init__(self, session: Session, pictures: Pictures, canvas) -> None:
        super().__init__()
        self.session = session
        self.setObjectName("time")
        self.setMouseTracking(True)
        box = QVBoxLayout(self)
        box.setContentsMargins(0, GRIP, 0, 0)
        box.setSpacing(0)
        self.ruler, self.lanes, self.curves = Ruler(session, pictures, canvas), Lanes(session), Curves(session)
        box.addWidget(self.ruler)
        self.scroller = QScrollArea(widgetResizable=True)
        self.scroller.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.lanes.time = self
        self.scroller.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.scroller.setFrameShape(QScrollArea.Shape.NoFrame)
        self.scroller.setWidget(self.lanes)
        self.stack = QStackedWidget()
        self.stack.addWidget(self.scroller)
        self.stack.addWidget(self.curves)
        box.addWidget(self.stack, 1)
        self.player = Player(session, canvas)
        self.player.setParent(self)
        self.player.move(0, GRIP)
        self.toggle = icon_button(
            "chart-spline", "show-curves", "Curves of the keyed values, in place of the lanes", lambda: self.show_curves(not self.on_curves)
        )
        self.toggle.setCheckable(True)
        self.toggle.setParent(self)
        self.toggle.setStyleSheet("padding: 0;")
        self.toggle.setGeometry(GUTTER - 26, GRIP + 1, 22, 20)
        self._grip: tuple[float, int] | None = None
        self._pan: tuple[float, float] | None = None  # x and the frame there as a middle drag began
        for part in (self.ruler, self.lanes, self.curves):
            part.installEventFilter(self)
        self._gently = Gently(session, self.refresh)
        session.frame_changed.connect(lambda _: self._moved())
        canvas.picture_changed.connect(self.ruler.show_kept)
        self.show_curves(session.settings.value("time/curves", "0") == "1")

    @property
    def on_curves(self) -> bool:
        return self.stack.currentWidget() is self.curves

    def show_curves(self, on: bool) -> None:
        self.stack.setCurrentWidget(self.curves if on else self.scroller)
        self.session.settings.setValue("time/curves", "1" if on else "0")
        self._set_height(int(self.session.settings.value(f"time/height/{'curves' if on else 'lanes'}", CURVES_HEIGHT if on else LANES_HEIGHT)))
        self.refresh()

    def _set_height(self, height: int) -> None:
        most = max((self.window().height() if self.parent() is not None else 800) // 2, LEAST_HEIGHT)
        self.setFixedHeight(min(max(height, LEAST_HEIGHT), most))

    def refresh(self) -> None:
        self.ruler.setFixedHeight(RULER + (48 if self.session.step in ("Track", "Solve") else 30))
        self.toggle.setChecked(self.on_curves)
        self.lanes.refresh()
        self.curves.refresh()
        self.ruler.update()
        self.player.update()

    def axis(self) -> TimeAxis:
        return TimeAxis(self.session, self.width())

    def eventFilter(self, watched, event) -> bool:
        """The wheel over the ruler, or with Ctrl anywhere in the time, zooms at the pointer; with Shift, or a middle drag, it pans."""
        kind = event.type()
        if kind == event.Type.Wheel:
            turn = event.angleDelta().y() or event.angleDelta().x()  # Alt, and Shift on some systems, turn the wheel sideways
            if event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
                self.session.show_time(self.axis().panned(-turn / 120 * PAN_SHARE * (self.axis().end - self.axis().begin)))
                return True
            if watched is self.ruler or event.modifiers() & Qt.KeyboardModifier.ControlModifier:
                self.zoom(event.position().x(), ZOOM_STEP ** (turn / 120))
                return True
        elif kind == event.Type.MouseButtonPress and event.button() == Qt.MouseButton.MiddleButton:
            self._pan = (event.position().x(), self.axis().begin)
            return True
        elif kind == event.Type.MouseMove and self._pan is not None:
            axis, (x, begin) = self.axis(), self._pan
            self.session.show_time(axis.panned(begin - (event.position().x() - x) / axis.room - axis.begin))
            return True
        elif kind == event.Type.MouseButtonRelease and event.button() == Qt.MouseButton.MiddleButton:
            self._pan = None
            return True
        return False

    def zoom(self, x: float, factor: float) -> None:
        self.session.show_time(self.axis().zoomed(x, factor))

    def _moved(self) -> None:
        axis = self.axis()
        if not axis.begin <= self.session.frame + 0.5 <= axis.end:
            # the playhead left what is on show: a page further, so that it is not the lanes that run while it plays
            self.session.show_time(axis.panned(self.session.frame - axis.begin - PAGE_SHARE * (axis.end - axis.begin)))
        for part in (self.ruler, self.lanes, self.curves, self.player):
            part.update()

    def mousePressEvent(self, event) -> None:
        if event.position().y() < GRIP:
            self._grip = (event.globalPosition().y(), self.height())

    def mouseMoveEvent(self, event) -> None:
        self.setCursor(Qt.CursorShape.SizeVerCursor if self._grip or event.position().y() < GRIP else Qt.CursorShape.ArrowCursor)
        if self._grip is not None:
            self._set_height(round(self._grip[1] + self._grip[0] - event.globalPosition().y()))

    def mouseReleaseEvent(self, event) -> None:
        if self._grip is not None:
            self._grip = None
            self.session.settings.setValue(f"time/height/{'curves' if self.on_curves else 'lanes'}", self.height())

    def paintEvent(self, event) -> None:
        p = QPainter(self)
        p.fillRect(0, 0, self.width(), 1, QColor(theme.LINE))
