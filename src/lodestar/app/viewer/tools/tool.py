"""What every tool on the picture is: it takes mouse and keys from the canvas, draws what is in hand, and edits through the session."""

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter

from lodestar.core.basics.geometry import meet_plane

from ...measures import shown

REACH_PX, FARTHEST = 9.0, 1e4
NUMBER = "0123456789.,-"


class Tool:
    """name: by which the session knows it; label, icon, tip: of its button; hint: what the mouse does now."""

    name = label = icon = tip = ""

    def __init__(self, canvas) -> None:
        self.canvas = canvas
        self.session = canvas.session
        self.pointer: QPointF | None = None
        self.typed = ""  # digits that were typed while something is in hand

    def hint(self) -> str:
        return ""

    def press(self, event) -> None: ...

    def move(self, event) -> None:
        self.pointer = event.position()
        self.canvas.update()

    def release(self, event) -> None: ...
    def double(self, event) -> None: ...

    def leave(self) -> None:
        self.pointer = None
        self.canvas.update()

    def key(self, event) -> bool:
        return False

    def wants(self, text: str) -> bool:
        """Whether a typed character belongs to this tool before any shortcut."""
        return False

    def takes(self, event) -> bool:
        """Whether a key belongs to this tool before any shortcut."""
        return self.wants(event.text())

    def writes(self) -> QRectF | None:
        """Where in the view words are being written, for input methods and dead keys; None where none are."""
        return None

    def write(self, text: str) -> None:
        """Words come from an input method."""

    def refuse(self, what: str, hint: str) -> None:
        """Tell why a click or a drag did nothing; that goes as soon as the next one does something, or another tool is taken."""
        shot = self.session.shot
        self.session.tell(what, hint, "doubtful", holds=lambda: self.session.shot is shot and self.canvas.tool is self)

    def on_plane(self, at: QPointF, point: np.ndarray, normal: np.ndarray) -> np.ndarray | None:
        """(3,) where the ray of a place of the view meets a plane in the scene; None where it does not before the camera, or very far off."""
        camera = self.canvas.camera()
        if camera is None:
            return None
        ray = camera.rays(self.canvas.to_plate(at))
        distance = float(meet_plane(camera.centre, ray, point, normal))
        return camera.centre + distance * ray if np.isfinite(distance) and distance < FARTHEST else None

    def number(self) -> float | None:
        """What was typed so far, once it is a number."""
        try:
            return float(self.typed.replace(",", "."))
        except ValueError:
            return None

    def typed_length(self) -> float | None:
        """What was typed so far as a length of the scene."""
        number = self.number()
        return None if number is None else number * shown(self.session.unit)[1]

    def paint(self, p: QPainter) -> None: ...


class HeightTool(Tool):
    """Something is drawn on the ground first, and its height then pointed at or typed."""

    def in_hand(self) -> bool:
        raise NotImplementedError

    def let_go(self) -> None:
        raise NotImplementedError

    def take(self, height: float) -> None:
        raise NotImplementedError

    def wants(self, text: str) -> bool:
        return bool(self.in_hand() and text and text in NUMBER)

    def key(self, event) -> bool:
        if not self.in_hand():
            return False
        if event.key() == Qt.Key.Key_Escape:
            self.let_go()
            self.typed = ""
        elif self.wants(event.text()):
            self.typed += event.text()
        elif event.key() == Qt.Key.Key_Backspace:
            self.typed = self.typed[:-1]
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and (number := self.typed_length()) is not None:
            self.take(number)
        else:
            return False
        self.session.view_changed.emit()
        self.canvas.update()
        return True
