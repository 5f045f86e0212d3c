"""Making a title of the place's own stone: a square of the plate becomes its surface."""

from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen, QPolygonF

from lodestar.core.edits.stone import Quad, quad_under, with_surface_of_place
from lodestar.core.evaluate.pointing import Points
from lodestar.core.picture.frame import light_frame
from lodestar.core.shot.objects import Solid

from ... import theme
from ...derived import covariances_of, points_of
from .tool import Tool


class TakeStone(Tool):
    """A click makes the chosen object of what the square under the pointer shows."""

    name, label, icon, tip = "stone", "Surface of the place", "pipette", "Click a wall or the ground: the chosen object is made of it"

    def hint(self) -> str:
        item = self.session.object()
        if not isinstance(item, Solid):
            return "Choose a title, a logo or a solid first; then click what it shall be made of"
        return f"Click a wall or the ground, where the sun falls on it: {item.name} is made of it"

    def quad(self) -> Quad | None:
        shot = self.session.shot
        if self.pointer is None:
            return None
        return quad_under(shot, self.session.frame, self.canvas.to_plate(self.pointer), Points(points_of(shot), covariances_of(shot)))

    def press(self, event) -> None:
        if event.button() != Qt.MouseButton.LeftButton:
            return
        self.pointer = event.position()
        shot, frame, item, quad = self.session.shot, self.session.frame, self.session.object(), self.quad()
        if not isinstance(item, Solid):
            self.refuse("No title, logo or solid is chosen, so nothing was changed.", "Choose one in the picture or its lane first.")
        elif quad is None or shot.plate is None:
            self.refuse(
                "There is no surface under the pointer whose square lies in the picture.",
                "Point at the ground or a wall where tracks are.",
            )
        else:
            plate, id_ = shot.plate, item.id
            take = lambda light: self.session.edit("Surface of the place", lambda s: with_surface_of_place(s, id_, light, frame, quad))
            self.session.work.run_job("Surface of the place", "Place", lambda job: light_frame(plate, frame), take)

    def paint(self, p: QPainter) -> None:
        quad = self.quad()
        if quad is None:
            return
        p.setPen(QPen(QColor(theme.ACCENT), 1.5))
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.drawPolygon(QPolygonF([QPointF(*self.canvas.to_widget(corner)) for corner in quad.corners]))
