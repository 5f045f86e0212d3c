"""The picture: zoomed and panned, with overlays on it and a tool in hand."""

from typing import Any

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QColor, QImage, QPainter, QPen
from PyQt6.QtWidgets import QWidget

from lodestar.core.basics.errors import UserError
from lodestar.core.evaluate.cameras import camera_at
from lodestar.core.projection.camera import Camera

from .. import theme
from ..pictures import Pictures, Request
from ..session import Session
from . import drawing, overlays

SOON_MS = 100
STILL_MS = 220  # after this long without a change, the draft is made final
ZOOM_STEP = 1.2


class PictureCanvas(QWidget):
    """Shows frame `session.frame`. Wheel zooms at the pointer, middle drag pans; the rest goes to the tool."""

    picture_changed = pyqtSignal()

    def __init__(self, session: Session, pictures: Pictures) -> None:
        super().__init__()
        self.session, self.pictures = session, pictures
        self.setObjectName("picture")
        self.setAccessibleName("Picture")
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAttribute(Qt.WidgetAttribute.WA_InputMethodEnabled)
        self.setMinimumSize(160, 90)
        self.zoom = 0.0  # 0: fit
        self.pan = QPointF()
        self.image: QImage | None = None
        self.bare: QImage | None = None
        self.shown: Request | None = None
        self.before_after = False
        self.divide = 0.5
        self.refine = True
        self._camera: tuple = ()  # what the camera of this frame was made from, and the camera
        self.drawn = {
            "marks": True,
            "tails": True,
            "rejected": True,
            "dim": False,
            "grid": True,
            "floor": False,
            "handles": True,
            "mattes": True,
            "eyes": False,
            "stand-ins": True,
        }
        self.matte_view = "picture"  # or one of `matte_view.VIEWS`, while at the foreground
        self.tool: Any = None
        self.error: UserError | None = None
        self.dropped = 0
        self._drag: QPointF | None = None
        self._still = QTimer(self, interval=STILL_MS, singleShot=True)
        self._still.timeout.connect(self._ask_final)
        self._soon = QTimer(self, interval=SOON_MS, singleShot=True)
        self._soon.timeout.connect(self.update)
        pictures.made.connect(self._made)
        pictures.failed.connect(self._failed)
        session.shot_changed.connect(self.refresh)
        session.frame_changed.connect(lambda _: self.refresh())
        session.view_changed.connect(self._view_changed)
        session.jobs.changed.connect(self._settle)

    def _view_changed(self) -> None:
        wanted = self.request()
        if wanted is not None and self.shown is not None:
            let_go = self.shown.quality == "sketch" != wanted.quality
            if let_go or (wanted.layer, wanted.mattes) != (self.shown.layer, self.shown.mattes):
                self.refresh()
        self.update()

    # geometry ----------------------------------------------------------------------------------------------------------------

    def plate_size(self) -> tuple[int, int]:
        plate = self.session.shot.plate
        return (plate.width, plate.height) if plate else (1280, 720)

    def fit_zoom(self) -> float:
        w, h = self.plate_size()
        return max(min(self.width() / w, self.height() / h), 0.01)

    @property
    def scale(self) -> float:
        return self.zoom or self.fit_zoom()

    def origin(self) -> QPointF:
        (w, h), scale = self.plate_size(), self.scale
        middle = QPointF((self.width() - w * scale) / 2, (self.height() - h * scale) / 2)
        return middle + self.pan if self.zoom else middle

    def to_widget(self, xy: np.ndarray) -> np.ndarray:
        """(..., 2) plate pixels to widget coordinates."""
        o = self.origin()
        return (np.asarray(xy, float) + 0.5) * self.scale + [o.x(), o.y()]

    def to_plate(self, at: QPointF) -> np.ndarray:
        o = self.origin()
        return np.array([(at.x() - o.x()) / self.scale - 0.5, (at.y() - o.y()) / self.scale - 0.5])

    def camera(self) -> Camera | None:
        """The camera of the frame on show; None when this frame has none."""
        shot, frame = self.session.shot, self.session.frame
        known = (shot.plate, shot.solve, shot.ground, frame)
        # a drag asks some twenty times for each picture
        if not self._camera or any(a is not b for a, b in zip(self._camera[0][:3], known[:3], strict=True)) or self._camera[0][3] != frame:
            here = shot.plate is not None and (shot.solve is None or frame in shot.solve.frames)
            self._camera = (known, camera_at(shot, frame) if here else None)
        return self._camera[1]

    def picture_rect(self) -> QRectF:
        w, h = self.plate_size()
        return QRectF(self.origin().x(), self.origin().y(), w * self.scale, h * self.scale)

    def set_zoom(self, zoom: float, at: QPointF | None = None) -> None:
        """zoom in widget px a plate px, 0 to fit; the place under `at` stays where it is."""
        at = at or QPointF(self.width() / 2, self.height() / 2)
        place = self.to_plate(at)
        self.zoom = min(max(zoom, 0.05), 16.0) if zoom else 0.0
        self.pan = QPointF()
        if self.zoom:
            moved = self.to_widget(place)
            self.pan = at - QPointF(*moved)
        self.refresh()

    # the picture --------------------------------------------------------------------------------------------------------------

    def request(self, quality: str = "", layer: str = "picture") -> Request | None:
        """What is to be shown now; without a quality, one that keeps up with the hand while something is dragged, and a draft else."""
        shot = self.session.shot
        if shot.plate is None:
            return None
        quality = quality or ("sketch" if self.session.dragging else "draft")
        sharp = self.scale * self.devicePixelRatioF()
        # fitted: just the pixels that are shown, since drawing at nearly the same size makes bands; else in steps, so that a
        # little zooming does not make the picture anew
        scale = min(sharp, 1.0) if not self.zoom else float(np.ceil(min(sharp, 1.0) * 16) / 16)
        if layer == "picture" and self.drawn["eyes"] and self.session.step == "Track":
            layer, quality = "tracker", "draft"
        mattes = None
        if layer == "picture" and self.matte_view != "picture" and self.session.step == "Foreground":
            layer, quality = self.matte_view, "draft"
            mattes = (self.session.selected,) if any(m.id == self.session.selected for m in shot.mattes) else None
        return Request(shot, self.session.frame, quality, max(scale, 1 / 16), layer, mattes=mattes)

    def refresh(self) -> None:
        request = self.request()
        if request is None:
            self.image = self.shown = None
            self.update()
            return
        self.pictures.ask(request)
        self._settle()
        if not self.session.dragging:
            self.update()
        elif not self._soon.isActive():
            # handles go along with the letters: they are painted with the next picture, which leaves the picture more of the time
            self._soon.start()

    def _settle(self) -> None:
        """The picture is made final when it was still for a while; while a subject is followed, the next frame comes before that would be done."""
        if self.refine and not self.session.work.following:
            self._still.start()

    def _ask_final(self) -> None:
        request = self.request("final")
        if request is not None and request.shot.objects:
            self.pictures.ask(request)

    def _made(self, request: Request, image: QImage) -> None:
        if request.layer == "scene":
            return
        wanted = self.request()
        # a picture of an earlier value is shown all the same: it lets a drag be seen, and the next one replaces it
        if wanted is None or request.shot.plate is not wanted.shot.plate:
            return
        if request.layer == "plate":
            self.bare = image
            if self.refine and not self._still.isActive() and self.shown is not None and self.shown.quality != "final":
                self._ask_final()  # one that was under way gave way to this
        else:
            same = self.shown is not None and self.shown.index == request.index and self.shown.shot is request.shot
            if not (
                same and self.shown is not None and self.shown.quality == "final" and request.quality != "final" and self.shown[3:] == request[3:]
            ):
                self.image, self.shown = image, request
            bare = self.request("draft", "plate") if self.before_after else None
            if bare is not None:
                self.pictures.ask(bare)
        self.error = None
        self.picture_changed.emit()
        self._soon.stop()
        self.update()

    def _failed(self, request: Request, error: UserError) -> None:
        wanted = self.request()
        if request.layer == "scene" or wanted is None or request.shot.plate is not wanted.shot.plate:
            return
        known, self.error = self.error, error
        told = any(m.what == error.what and m.holds() for m in self.session.messages[-1:])  # with what can be done about it
        if (known is None or error.what != known.what) and not told:
            # it goes when a picture could be made again
            self.session.tell(error.what, error.hint, "bad", holds=lambda: self.error is not None and self.error.what == error.what)
        self.update()

    def set_before_after(self, on: bool) -> None:
        self.before_after = on
        self.bare = None
        self.refresh()

    def paintEvent(self, event) -> None:
        p = QPainter(self)
        p.fillRect(self.rect(), QColor(theme.SURROUND))
        if self.session.shot.plate is None:
            return
        p.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform, self.scale < 3)
        rect = self.picture_rect()
        if self.image is not None:
            p.drawImage(self._image_rect(rect, self.image), self.image)
        if self.before_after and self.bare is not None:
            x = rect.left() + rect.width() * self.divide
            p.save()
            p.setClipRect(QRectF(rect.left(), rect.top(), x - rect.left(), rect.height()))
            p.drawImage(self._image_rect(rect, self.bare), self.bare)
            p.restore()
        if self.drawn["dim"]:
            p.fillRect(rect, theme.colour("#000000", 0.42))
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        overlays.paint(p, self)
        if self.tool is not None:
            self.tool.paint(p)
        if self.before_after:
            self._paint_divide(p, rect)
        if self.error is not None:
            drawing.tag(p, QPointF(16, 16), [self.error.what, self.error.hint], theme.BAD)

    def _image_rect(self, rect: QRectF, image: QImage) -> QRectF:
        """Where the picture is drawn: pixel on pixel where it has the size that is shown, to half a pixel."""
        ratio = self.devicePixelRatioF()
        width, height = image.width() / ratio, image.height() / ratio
        if abs(width - rect.width()) < 1 and abs(height - rect.height()) < 1:
            return QRectF(round(rect.left() * ratio) / ratio, round(rect.top() * ratio) / ratio, width, height)
        return rect

    def _paint_divide(self, p: QPainter, rect: QRectF) -> None:
        x = rect.left() + rect.width() * self.divide
        p.setPen(QPen(QColor("#FFFFFF"), 1))
        p.drawLine(QPointF(x, rect.top()), QPointF(x, rect.bottom()))
        p.setBrush(QColor("#FFFFFF"))
        p.setPen(Qt.PenStyle.NoPen)
        p.drawRoundedRect(QRectF(x - 3, rect.center().y() - 13, 6, 26), 3, 3)
        p.setFont(theme.font(12))
        p.setPen(QColor(theme.TEXT))
        y = max(rect.top() - 8, 14)
        p.drawText(QPointF(x - 14 - p.fontMetrics().horizontalAdvance("plate"), y), "plate")
        p.drawText(QPointF(x + 10, y), "now")

    # mouse and keys -----------------------------------------------------------------------------------------------------------

    def wheelEvent(self, event) -> None:
        turns = event.angleDelta().y() / 120
        self.set_zoom(self.scale * ZOOM_STEP**turns, event.position())

    def mousePressEvent(self, event) -> None:
        self.setFocus()
        self.session.set_dragging(True)
        if event.button() == Qt.MouseButton.MiddleButton:
            self._drag = event.position()
            if not self.zoom:
                self.zoom, self.pan = self.fit_zoom(), QPointF()
        elif self._on_divide(event.position()):
            self._drag = None
            self.grabbed_divide = True
        elif self.tool is not None:
            self.tool.press(event)

    grabbed_divide = False

    def _on_divide(self, at: QPointF) -> bool:
        rect = self.picture_rect()
        return self.before_after and abs(at.x() - rect.left() - rect.width() * self.divide) < 7

    def mouseMoveEvent(self, event) -> None:
        if self._drag is not None:
            self.pan += event.position() - self._drag
            self._drag = event.position()
            self.update()
        elif self.grabbed_divide:
            rect = self.picture_rect()
            self.divide = float(np.clip((event.position().x() - rect.left()) / rect.width(), 0, 1))
            self.update()
        elif self.tool is not None:
            self.tool.move(event)

    def mouseReleaseEvent(self, event) -> None:
        self.session.set_dragging(False)
        if event.button() == Qt.MouseButton.MiddleButton:
            self._drag = None
        elif self.grabbed_divide:
            self.grabbed_divide = False
        elif self.tool is not None:
            self.tool.release(event)

    def mouseDoubleClickEvent(self, event) -> None:
        if self.tool is not None:
            self.tool.double(event)

    def leaveEvent(self, event) -> None:
        if self.tool is not None:
            self.tool.leave()

    def event(self, event) -> bool:
        # numbers that are typed while a handle is in hand belong to the tool, whatever they are shortcuts for elsewhere
        if event.type() == event.Type.ShortcutOverride and self.tool is not None and self.tool.takes(event):
            event.accept()
            return True
        return super().event(event)

    def keyPressEvent(self, event) -> None:
        if self.tool is not None and self.tool.key(event):
            return
        if event.key() == Qt.Key.Key_Escape and (self.session.selected or self.session.others or self.session.tracks):
            self.session.select("", frozenset())
        else:
            super().keyPressEvent(event)

    def inputMethodQuery(self, query: Qt.InputMethodQuery) -> object:
        written = self.tool.writes() if self.tool is not None else None
        if query == Qt.InputMethodQuery.ImEnabled:
            return written is not None
        if query == Qt.InputMethodQuery.ImCursorRectangle and written is not None:
            return written  # beside which candidates are offered
        return super().inputMethodQuery(query)

    def inputMethodEvent(self, event) -> None:
        """Words that are composed of several keys, by an input method or a dead key, come whole."""
        if self.tool is not None and self.tool.writes() is not None and event.commitString():
            self.tool.write(event.commitString())
        event.accept()

    def resizeEvent(self, event) -> None:
        self.refresh()
        self.picture_changed.emit()
