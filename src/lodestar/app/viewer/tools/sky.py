"""Turning the new sky by dragging it in the picture."""

from PyQt6.QtCore import QPointF, Qt

from lodestar.core.edits.sky import turned_sky

from .tool import Tool


class TurnSky(Tool):
    """What is under the pointer goes along with it."""

    name, label, icon, tip = "sky", "Turn sky", "rotate-3d", "Drag the new sky to where it belongs"

    def __init__(self, canvas) -> None:
        super().__init__(canvas)
        self.first: QPointF | None = None
        self.group: object = None

    def hint(self) -> str:
        if not self.session.shot.backdrop.on:
            return "There is no new sky yet: Replace the sky, at the right"
        return "Drag the sky to the side, up or down"

    def press(self, event) -> None:
        if event.button() == Qt.MouseButton.LeftButton and self.session.shot.backdrop.on:
            self.first, self.group = event.position(), object()

    def move(self, event) -> None:
        super().move(event)
        camera = self.canvas.camera()
        if self.first is None or camera is None:
            return
        # each step of a drag is told from where it began
        before, now = (camera.rays(self.canvas.to_plate(at)) for at in (self.first, event.position()))
        frame, how = self.session.frame, self.session.how
        self.session.edit("Turn the sky", lambda s: turned_sky(s, frame, before, now, how), self.group)

    def release(self, event) -> None:
        if self.first is not None:
            self.first = None
            self.session.history.close_group()
