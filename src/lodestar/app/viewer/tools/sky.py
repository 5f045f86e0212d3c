"""Turning what is infinitely far away by dragging it in the picture: the new sky, and the surroundings whose light falls on the titles."""

from PyQt6.QtCore import QPointF, Qt

from lodestar.core.edits.sky import turned_sky

from .tool import Tool


class TurnSky(Tool):
    """What is under the pointer goes along with it."""

    name, label, icon, tip = "sky", "Turn sky", "rotate-3d", "Drag the new sky to where it belongs"
    turns, step = "backdrop", "Turn the sky"  # the field of the shot that is turned, and what the edit is called
    nothing, how_to = "There is no new sky yet: Replace the sky, at the right", "Drag the sky to the side, up or down"

    def __init__(self, canvas) -> None:
        super().__init__(canvas)
        self.first: QPointF | None = None
        self.group: object = None

    def _there(self) -> bool:
        return getattr(self.session.shot, self.turns).on

    def hint(self) -> str:
        return self.how_to if self._there() else self.nothing

    def press(self, event) -> None:
        if event.button() == Qt.MouseButton.LeftButton and self._there():
            self.first, self.group = event.position(), object()

    def move(self, event) -> None:
        super().move(event)
        camera = self.canvas.camera()
        if self.first is None or camera is None:
            return
        # each step of a drag is told from where it began
        before, now = (camera.rays(self.canvas.to_plate(at)) for at in (self.first, event.position()))
        frame, how = self.session.frame, self.session.how
        self.session.edit(self.step, lambda s: turned_sky(s, self.turns, frame, before, now, how), self.group)

    def release(self, event) -> None:
        if self.first is not None:
            self.first = None
            self.session.history.close_group()


class TurnSurroundings(TurnSky):
    """They are seen in what mirrors them: an edge catches the light when it is right. Surroundings that follow the new sky turn with that."""

    name, label, icon, tip = "surroundings", "Turn surroundings", "rotate-3d", "Drag to turn the surroundings until an edge catches their light"
    turns, step = "surroundings", "Turn the surroundings"
    nothing, how_to = "There are no surroundings yet: choose some at the right", "Drag to the side, up or down: the light turns with it"

    def _there(self) -> bool:
        return super()._there() and self.session.shot.surroundings.kind != "sky"

    def hint(self) -> str:
        around = self.session.shot.surroundings
        return "These turn with the new sky: Turn sky, in Foreground" if around.on and around.kind == "sky" else super().hint()
