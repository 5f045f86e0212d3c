"""The thread that makes pictures. A request replaces the one that waits; what was made is kept while the shot stays the same."""

import logging
import threading
from collections import OrderedDict
from typing import NamedTuple

import numpy as np
from PyQt6.QtCore import QObject, pyqtSignal
from PyQt6.QtGui import QImage

from lodestar.core.basics.errors import UserError
from lodestar.core.picture.display import for_display
from lodestar.core.picture.frame import frame
from lodestar.core.picture.matte_view import VIEWS, matte_view
from lodestar.core.picture.outside import scene_picture
from lodestar.core.picture.workshop import close_workshop
from lodestar.core.projection.camera import Camera
from lodestar.core.shot.document import FOR_TRACKER, IN_PICTURE, Shot, shown_parts

KEPT_BYTES = 500_000_000
log = logging.getLogger(__name__)


class Request(NamedTuple):
    """All that a picture depends on, so that the thread needs no lock. layer: 'picture', 'plate' or 'tracker'; one of `matte_view.VIEWS` of
    the mattes with these ids; or 'scene', seen by the camera `view` in `size` px."""

    shot: Shot
    index: int  # type: ignore[assignment]  # a frame; tuple.index is not used of a request
    quality: str
    scale: float
    layer: str = "picture"
    view: Camera | None = None
    size: tuple[int, int] = (0, 0)
    mattes: tuple[str, ...] | None = None

    def what(self) -> tuple:
        """Parts of the shot that show in the picture; the same objects make the same picture."""
        return shown_parts(self.shot, FOR_TRACKER if self.layer == "tracker" else IN_PICTURE)

    def how(self) -> tuple:
        return self.quality, round(self.scale, 4), self.layer, self.mattes


class _Stale(Exception):
    pass


class Pictures(QObject):
    """`made(request, QImage)` and `failed(request, UserError)` are told on the interface thread."""

    made = pyqtSignal(object, object)
    failed = pyqtSignal(object, object)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._wait = threading.Condition()
        self._next: dict[bool, Request] = {}  # one for the picture and one for the scene
        self._open, self._last = True, False
        self._kept: OrderedDict[tuple, QImage] = OrderedDict()
        self._kept_for: tuple = ()
        self._bytes = 0
        self.most_bytes = KEPT_BYTES
        self.count = 0
        self._thread = threading.Thread(target=self._run, name="pictures", daemon=True)
        self._thread.start()

    def ask(self, request: Request) -> None:
        with self._wait:
            self._next[request.layer == "scene"] = request
            self._wait.notify()

    def kept_frames(self, request: Request) -> set[int]:
        """Frames that show at once, for the present shot and size."""
        with self._wait:
            if len(self._kept_for) != len(request.what()) or any(a is not b for a, b in zip(self._kept_for, request.what(), strict=True)):
                return set()
            return {key[0] for key in self._kept if key[1:] == request.how()}

    def close(self) -> None:
        with self._wait:
            self._open, self._next = False, {}
            self._wait.notify()
        self._thread.join(20)

    def _run(self) -> None:
        while True:
            with self._wait:
                while self._open and not self._next:
                    self._wait.wait()
                if not self._open:
                    break
                # by turns, so that neither keeps the other waiting
                kind = self._last if self._last in self._next else not self._last
                request, self._last = self._next.pop(kind), not kind
            try:
                image = self._image(request)
            except _Stale:
                continue
            except UserError as error:
                self.failed.emit(request, error)
            except Exception as error:
                log.exception("a picture failed")
                self.failed.emit(
                    request,
                    UserError(
                        f"The picture of frame {request.index} failed on a fault of the program ({type(error).__name__}).",
                        "The message log has the details.",
                    ),
                )
            else:
                self.count += 1
                self.made.emit(request, image)
        close_workshop()

    def _image(self, request: Request) -> QImage:
        if request.layer == "scene":
            assert request.view is not None
            pixels = scene_picture(request.shot, request.index, request.view, *request.size, request.quality)
            return QImage(pixels.data, *request.size, 4 * request.size[0], QImage.Format.Format_RGBA8888_Premultiplied).copy()
        what = request.what()
        if len(self._kept_for) != len(what) or any(a is not b for a, b in zip(self._kept_for, what, strict=True)):
            with self._wait:
                self._kept.clear()
                self._kept_for, self._bytes = what, 0
        key = (request.index, *request.how())
        if key in self._kept:
            return self._kept[key]
        image = self._make(request)
        with self._wait:
            self._kept[key] = image
            self._bytes += image.sizeInBytes()
            while self._bytes > self.most_bytes:
                _, old = self._kept.popitem(last=False)
                self._bytes -= old.sizeInBytes()
        return image

    def _make(self, request: Request) -> QImage:
        def check() -> None:
            waiting = self._next.get(False)
            if not self._open or (waiting is not None and request.quality == "final" and waiting != request):
                raise _Stale

        if request.layer in VIEWS:
            pixels = matte_view(request.shot, request.index, request.layer, request.mattes, request.scale)
            return _image_of(pixels)
        picture = frame(request.shot, request.index, request.quality, layer=request.layer, scale=request.scale, check=check)
        return _image_of(for_display(picture.pixels, picture.colour))


def _image_of(pixels: np.ndarray) -> QImage:
    """32 bits a pixel, made here: the painter would convert the picture at each repaint on the interface thread."""
    height, width = pixels.shape[:2]
    return QImage(np.ascontiguousarray(pixels).data, width, height, 3 * width, QImage.Format.Format_RGB888).convertToFormat(
        QImage.Format.Format_RGB32
    )
