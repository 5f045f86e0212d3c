"""Arranging several objects along a line that is drawn over the ground."""

import numpy as np
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen

from lodestar.core.edits.arrange import along_line
from lodestar.core.scene.surfaces import on_ground

from ... import theme
from .. import drawing
from .tool import Tool

STEP_PX = 6.0


class AlongPath(Tool):
    """Drag a line over the ground: the objects that are chosen stand along it, evenly and facing square to it."""

    name, label, icon, tip = "path", "Along a path", "route", "Choose several objects, then drag a line over the ground: they stand along it"

    def __init__(self, canvas) -> None:
        super().__init__(canvas)
        self.line: list[QPointF] = []

    def hint(self) -> str:
        count = len(self.session.chosen_objects())
        return (
            f"Drag a line over the ground: {count} objects stand along it" if count > 1 else "Choose two objects or more first, with Shift and click"
        )

    def press(self, event) -> None:
        if event.button() == Qt.MouseButton.LeftButton:
            self.line = [event.position()]

    def move(self, event) -> None:
        if self.line and (event.position() - self.line[-1]).manhattanLength() > STEP_PX:
            self.line.append(event.position())
        super().move(event)

    def release(self, event) -> None:
        line, self.line = [*self.line, event.position()], []
        camera = self.canvas.camera()
        if len(line) < 2 or camera is None:
            return
        places = [p for q in line if (p := on_ground(camera, self.canvas.to_plate(q), 1e4)) is not None]
        ids, frame, how = self.session.chosen_objects(), self.session.frame, self.session.how
        if len(places) < 2:
            self.refuse("That line does not lie on the ground.", "Draw it below the horizon.")
            return
        self.session.edit("Arrange along a path", lambda s: along_line(s, ids, frame, how, np.array(places)))
        self.session.use_tool("move")

    def paint(self, p: QPainter) -> None:
        if self.line:
            p.setPen(QPen(QColor(theme.ACCENT), 1.6))
            p.setBrush(Qt.BrushStyle.NoBrush)
            p.drawPolyline(drawing.polygon(np.array([[q.x(), q.y()] for q in self.line])))
