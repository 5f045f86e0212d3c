"""Painting a subject: strokes say what is inside and outside, and the subject is found from them on the frame that they are on."""

from typing import NamedTuple

import numpy as np
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen

from lodestar.core.edits.arrange import new_id
from lodestar.core.matte.strokes import Brushed, Stroke

from .. import overlays
from .tool import Tool

LEAST_PX, MOST_PX, STEP = 1.0, 200.0, 1.2  # radius of the brush in plate px; by how much a key changes it
APART = 0.5  # radii between the corners of a stroke


class Waiting(NamedTuple):
    """A stroke that was painted, but not yet looked at, since other work runs. id: of the matte that was in hand, or empty; history: of the
    shot that it was painted in."""

    stroke: Stroke
    id: str
    history: object


class Brush(Tool):
    """Paints strokes; each is found from at once, and becomes one step of undo with what was found."""

    name, label, icon, tip = "brush", "Brush", "pencil", "Paint over a subject; it is found on this frame, and followed through the others"

    def __init__(self, canvas) -> None:
        super().__init__(canvas)
        self.line: list[np.ndarray] = []
        self.inside, self.hair = True, False
        self.radius = 8.0
        self.waiting: list[Waiting] = []
        self.session.jobs.changed.connect(self._find)

    def hint(self) -> str:
        if self.current() is None:
            return "Paint along the middle of what passes in front · Shift paints what is not of it · [ and ] change the brush"
        return "Paint to add · Shift takes away · Ctrl marks hair and leaves · [ and ] change the brush · Follow finds it in all frames"

    def current(self) -> Brushed | None:
        found = next((m for m in self.session.shot.mattes if m.id == self.session.selected), None)
        return found if isinstance(found, Brushed) else None

    def _hairy(self) -> Brushed | None:
        """The subject whose hair a stroke marks: the one in hand, or the only one there is."""
        painted = [m for m in self.session.shot.mattes if isinstance(m, Brushed)]
        return self.current() or (painted[0] if len(painted) == 1 else None)

    def press(self, event) -> None:
        if event.button() == Qt.MouseButton.LeftButton:  # the right one opens the menu, here as everywhere
            # hair is of something: the first stroke says of what
            self.hair = bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier) and self._hairy() is not None
            self.inside = not (self.hair or event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
            self.line = [self.canvas.to_plate(event.position())]
            self.session.work.look_ahead(self.session.frame)
            self.canvas.update()

    def move(self, event) -> None:
        super().move(event)
        at = self.canvas.to_plate(event.position())
        if self.line and np.linalg.norm(at - self.line[-1]) > APART * self.radius:
            self.line.append(at)

    def release(self, event) -> None:
        if not self.line:
            return
        line = tuple(round(float(v), 2) for p in self.line for v in p)
        self.line = []
        current = self._hairy() if self.hair else self.current()
        stroke = Stroke(self.session.frame, line, round(self.radius, 2), self.inside, self.hair)
        self.waiting.append(Waiting(stroke, current.id if current is not None else "", self.session.history))
        self.session.work.stop_looking()
        self._find()

    def _find(self) -> None:
        """Find the subject with all strokes that wait for it on one frame, once no other work runs. Those for a shot that was left are dropped."""
        self.waiting = [w for w in self.waiting if w.history is self.session.history]
        if not self.waiting or self.session.jobs.busy:
            return
        first, current = self.waiting[0], self.current()
        together = lambda w: (w.stroke.frame, w.id) == (first.stroke.frame, first.id)
        taken = tuple(w.stroke for w in self.waiting if together(w))
        self.waiting = [w for w in self.waiting if not together(w)]
        # a subject that was begun by the stroke before is in hand by now
        self.session.work.paint(first.id or (current.id if current is not None else new_id()), taken)

    def key(self, event) -> bool:
        if event.text() in ("[", "]"):
            self.radius = float(np.clip(self.radius * (STEP if event.text() == "]" else 1 / STEP), LEAST_PX, MOST_PX))
            self.canvas.update()
            return True
        if event.key() == Qt.Key.Key_Escape and self.line:
            self.line = []
            self.canvas.update()
            return True
        return False

    def wants(self, text: str) -> bool:
        return bool(text) and text in "[]"

    def paint(self, p: QPainter) -> None:
        if self.session.work.glimpse is not None:
            overlays.paint_brushed(p, self.canvas, self.session.work.glimpse, True)
        for waiting in self.waiting:
            if waiting.stroke.frame == self.session.frame:
                overlays.paint_stroke(p, self.canvas, waiting.stroke)
        if self.line:
            now = Stroke(self.session.frame, tuple(float(v) for q in self.line for v in q), self.radius, self.inside, self.hair)
            overlays.paint_stroke(p, self.canvas, now)
        if self.pointer is not None:
            radius = self.radius * self.canvas.scale
            for width, tint in ((3.0, QColor(0, 0, 0, 120)), (1.2, QColor("#FFFFFF"))):
                p.setPen(QPen(tint, width))
                p.setBrush(Qt.BrushStyle.NoBrush)
                p.drawEllipse(QPointF(self.pointer), radius, radius)
