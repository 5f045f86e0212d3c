"""Lamps in the picture: where they stand and what they shine at is dragged."""

import numpy as np
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen

from lodestar.core.basics.geometry import meet_plane
from lodestar.core.edits.lights import aim_of, aimed, near_lamps, put_lamp
from lodestar.core.light.lamps import Area, Spot, ground_reach, light_of

from ... import theme
from .. import drawing
from .tool import REACH_PX, Tool


class MoveLamp(Tool):
    """Each near lamp has a ring where it stands and a small square at what it shines at; both are dragged, in the plane that faces the view."""

    name, label, icon, tip = "lamp", "Lamps", "lamp", "Drag where a lamp stands, and what it shines at"

    def __init__(self, canvas) -> None:
        super().__init__(canvas)
        self.held: tuple[str, str] | None = None  # id, and 'place' or 'aim'
        self.group: object = None

    def hint(self) -> str:
        if not near_lamps(self.session.shot):
            return "There is no lamp yet: add one at the right, under Lamps"
        return "Drag a ring to move a lamp, a square to aim it · Shift keeps its height · dashes: how far it is seen on the ground"

    def _ends(self, lamp: Area | Spot) -> dict[str, np.ndarray]:
        frame = self.session.frame
        return {"place": np.array(lamp.position.at(frame)), "aim": aim_of(self.session.shot, lamp, frame)}

    def _hit(self, at: QPointF) -> tuple[str, str] | None:
        camera = self.canvas.camera()
        if camera is None:
            return None
        for lamp in near_lamps(self.session.shot):
            for end, place in self._ends(lamp).items():
                xy, depth = camera.project(place)
                if depth > 0 and np.hypot(*(self.canvas.to_widget(xy) - [at.x(), at.y()])) < REACH_PX:
                    return lamp.id, end
        return None

    def press(self, event) -> None:
        if event.button() != Qt.MouseButton.LeftButton:
            return
        self.held, self.group = self._hit(event.position()), object()
        self.session.select(self.held[0] if self.held else "")

    def move(self, event) -> None:
        super().move(event)
        camera = self.canvas.camera()
        if self.held is None or camera is None:
            return
        id_, end = self.held
        lamp = next((one for one in near_lamps(self.session.shot) if one.id == id_), None)
        if lamp is None:
            return
        old, ray = self._ends(lamp)[end], camera.rays(self.canvas.to_plate(event.position()))
        level = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        normal = np.array([0.0, 0.0, 1.0]) if level else camera.R[2]
        distance = float(meet_plane(camera.centre, ray, old, normal))
        if not np.isfinite(distance) or distance > 1e5:
            return
        to, frame, how = camera.centre + distance * ray, self.session.frame, self.session.how
        change = put_lamp if end == "place" else aimed
        self.session.edit("Move a lamp" if end == "place" else "Aim a lamp", lambda s: change(s, id_, to, frame, how), (self.group, end))

    def release(self, event) -> None:
        self.held = None
        self.session.history.close_group()

    def paint(self, p: QPainter) -> None:
        camera = self.canvas.camera()
        if camera is None:
            return
        for lamp in near_lamps(self.session.shot):
            if lamp.on:
                self._paint_reach(p, camera, lamp)
            tint = QColor(theme.ACCENT if lamp.id == self.session.selected else theme.TEXT if lamp.on else theme.OFF)
            ends = {end: camera.project(place) for end, place in self._ends(lamp).items()}
            on = {end: QPointF(*self.canvas.to_widget(xy)) for end, (xy, depth) in ends.items() if depth > 0}
            p.setPen(QPen(tint, 1.4))
            p.setBrush(Qt.BrushStyle.NoBrush)
            if len(on) == 2:
                p.drawLine(on["place"], on["aim"])
            if "place" in on:
                p.setBrush(theme.colour(theme.WINDOW, 0.7))
                p.drawEllipse(on["place"], 6, 6)
                drawing.tag(p, on["place"] + QPointF(12, -10), [lamp.name])
            if "aim" in on:
                at = on["aim"]
                p.setBrush(tint)
                p.drawRect(int(at.x()) - 3, int(at.y()) - 3, 6, 6)

    def _paint_reach(self, p: QPainter, camera, lamp: Area | Spot) -> None:
        """The line on the level ground up to which a lamp is seen."""
        line = ground_reach(light_of(lamp, self.session.frame))
        if not len(line):
            return
        xy, depth = camera.project(line)
        p.setBrush(Qt.BrushStyle.NoBrush)
        dashes = QPen(theme.colour(theme.ACCENT, 1.0 if lamp.id == self.session.selected else 0.8), 1.6, Qt.PenStyle.DashLine)
        for a, b in zip(np.flatnonzero(np.diff(np.r_[0, depth > 0.05]) > 0), np.flatnonzero(np.diff(np.r_[depth > 0.05, 0]) < 0), strict=True):
            part = drawing.polygon(self.canvas.to_widget(xy[a : b + 1]))
            p.setPen(QPen(theme.colour(theme.FIELD, 0.45), 3.0))  # seen on a pale ground, too
            p.drawPolyline(part)
            p.setPen(dashes)
            p.drawPolyline(part)
