"""Reading the sun from a shadow in the picture."""

import numpy as np
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QPainter

from lodestar.core.basics.errors import UserError
from lodestar.core.basics.geometry import meet_plane, vector
from lodestar.core.edits.lights import with_shadow_lines
from lodestar.core.light.sun import bearing_and_height, from_shadow
from lodestar.core.shot.document import ShadowLine

from ...measures import figure, length
from .. import drawing, overlays
from .tool import HeightTool


class AlongShadow(HeightTool):
    """Drag from the foot of something to the tip of its shadow, then click its top (or type its height): the sun follows."""

    name, label, icon, tip = "shadow", "Along a shadow", "sun", "Drag from the foot of something to the tip of its shadow, then click its top"

    def __init__(self, canvas) -> None:
        super().__init__(canvas)
        self.foot: np.ndarray | None = None
        self.tip_at: np.ndarray | None = None
        self.dragging = False

    def hint(self) -> str:
        if self.foot is not None and not self.dragging:
            return "Now click the top of what throws this shadow, or type its height and Enter · Escape drops it"
        return "Drag from the foot of something to the tip of its shadow"

    def _ground(self, at: QPointF) -> np.ndarray | None:
        camera = self.canvas.camera()
        if camera is None:
            return None
        ray = camera.rays(self.canvas.to_plate(at))
        distance = float(meet_plane(camera.centre, ray, np.zeros(3), np.array([0, 0, 1.0])))
        return camera.centre + distance * ray if np.isfinite(distance) and distance < 1e4 else None

    def _height(self, at: QPointF) -> float:
        """Height over the foot at which the pointer's ray passes nearest to the upright through the foot."""
        camera = self.canvas.camera()
        d = camera.rays(self.canvas.to_plate(at))
        w = self.foot - camera.centre
        flat = d[:2] @ d[:2]
        return float((w[:2] @ d[:2]) / max(flat, 1e-9) * d[2] - w[2])

    def press(self, event) -> None:
        if event.button() != Qt.MouseButton.LeftButton:
            return
        if self.foot is not None and self.tip_at is not None:
            self.take(self._height(event.position()))
            return
        self.foot = self.tip_at = self._ground(event.position())
        self.dragging = self.foot is not None
        if self.foot is None:
            self.refuse("The foot must stand on the ground, below the horizon.", "Begin at the foot of a post or a person.")

    def move(self, event) -> None:
        if self.dragging:
            tip = self._ground(event.position())
            self.tip_at = tip if tip is not None else self.tip_at
        super().move(event)

    def release(self, event) -> None:
        if self.dragging:
            self.dragging = False
            if self.tip_at is None or self.foot is None or np.linalg.norm(self.tip_at - self.foot) < 1e-3:
                self.foot = self.tip_at = None
        self.session.view_changed.emit()

    def in_hand(self) -> bool:
        return self.foot is not None

    def let_go(self) -> None:
        self.foot = self.tip_at = None

    def take(self, height: float) -> None:
        foot, tip = self.foot, self.tip_at
        self.foot = self.tip_at = None
        self.typed = ""
        if foot is None or tip is None:
            return
        try:
            from_shadow(foot, tip, height)
        except UserError as error:
            self.session.fail(error)
            return
        shadow = ShadowLine(foot=vector(foot), tip=vector(tip), height=float(height))
        self.session.edit("Sun from a shadow", lambda s: with_shadow_lines(s, (*s.shadow.lines, shadow)))
        self.session.view_changed.emit()

    def paint(self, p: QPainter) -> None:
        camera = self.canvas.camera()
        if self.foot is None or self.tip_at is None or camera is None or self.pointer is None:
            return
        typed = self.typed_length()
        height = typed if typed is not None else 0.0 if self.dragging else self._height(self.pointer)
        top = self.foot + [0, 0, max(height, 0)]
        overlays.paint_shadow(p, self.canvas, camera, self.foot, self.tip_at, top, True)
        words = [f"shadow {length(float(np.linalg.norm(self.tip_at - self.foot)), self.session.unit)} long"]
        if height > 0:
            bearing, up = bearing_and_height(from_shadow(self.foot, self.tip_at, height))
            words = [f"bearing {figure(bearing, 1)}° · height {figure(up, 1)}°", f"{length(height, self.session.unit)} high"]
        drawing.tag(p, self.pointer + QPointF(16, 12), words)
