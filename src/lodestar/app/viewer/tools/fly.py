"""Choosing the hole of a letter through which the camera shall fly."""

from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen

from lodestar.core.basics.errors import UserError
from lodestar.core.edits.fly import Hole, fly_through, hole_under
from lodestar.core.evaluate.objects import pose_of
from lodestar.core.scene.poses import moved

from ... import theme
from .tool import Tool


class FlyThrough(Tool):
    """A click in the hole of a letter chooses it; Enter at the frame in which the camera shall pass through it places the title there."""

    name, label, icon, tip = "fly", "Fly through", "route", "Click in the hole of a letter, go to a frame, Enter: the camera flies through it then"

    def __init__(self, canvas) -> None:
        super().__init__(canvas)
        self.title = ""
        self.hole: Hole | None = None

    def hint(self) -> str:
        if self.hole is None:
            return "Click in the hole of a letter: an O, an A, an 8"
        return "Go to the frame in which the camera shall pass through it · Enter: upright · Shift Enter: square to the path · Escape lets it go"

    def press(self, event) -> None:
        camera = self.canvas.camera()
        if event.button() != Qt.MouseButton.LeftButton or camera is None:
            return
        found = hole_under(self.session.shot, camera, self.canvas.to_plate(event.position()), self.session.frame)
        if found is None:
            self.refuse("There is no hole of a letter under the pointer.", "Click inside an O, an A or an 8 of a title.")
            return
        self.title, self.hole = found[0].id, found[1]
        self.session.select(self.title)
        self.session.view_changed.emit()

    def key(self, event) -> bool:
        if event.key() == Qt.Key.Key_Escape and self.hole is not None:
            self.hole = None
            self.session.view_changed.emit()
            return True
        if event.key() not in (Qt.Key.Key_Return, Qt.Key.Key_Enter) or self.hole is None:
            return False
        session, hole, id_ = self.session, self.hole, self.title
        upright = not event.modifiers() & Qt.KeyboardModifier.ShiftModifier
        try:
            fly_through(session.shot, id_, hole, session.frame, upright)
        except UserError as error:
            session.fail(error)
            return True
        session.edit("Fly through", lambda s: fly_through(s, id_, hole, session.frame, upright))
        self.hole = None
        session.tell(f"The camera passes through the middle of the hole at frame {session.frame}.", "Play from a second before.", "note")
        return True

    def paint(self, p: QPainter) -> None:
        camera, shot = self.canvas.camera(), self.session.shot
        item = next((o for o in shot.objects if o.id == self.title), None)
        if self.hole is None or camera is None or item is None:
            return
        m = pose_of(shot, item, self.session.frame)
        xy, depth = camera.project(moved(m, self.hole.middle))
        if depth <= 0:
            return
        at = QPointF(*self.canvas.to_widget(xy))
        across = self.hole.radius * camera.lens.fx / float(depth) * self.canvas.scale
        p.setPen(QPen(QColor(theme.ACCENT), 1.6))
        p.setBrush(theme.colour(theme.ACCENT, 0.15))
        p.drawEllipse(at, across, across)
