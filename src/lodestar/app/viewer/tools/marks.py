"""Choosing tracks, rejecting them and bringing them back."""

import numpy as np
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen, QPolygonF

from ... import theme
from .tool import REACH_PX, Tool


class ChooseMarks(Tool):
    name, label, icon, tip = "marks", "Choose marks", "lasso", "Click a mark, Shift adds, drag a line round several"

    def __init__(self, canvas) -> None:
        super().__init__(canvas)
        self.line: list[QPointF] = []

    def hint(self) -> str:
        n = len(self.session.tracks)
        return (f"{n} chosen · " if n else "") + "Click a mark · Shift adds · drag round several · Delete rejects"

    def _here(self):
        tracks = self.session.shot.tracks
        if tracks is None:
            return None, None, None
        rows = tracks.at(self.session.frame)
        return tracks, rows, self.canvas.to_widget(tracks.xy[rows])

    def press(self, event) -> None:
        if event.button() == Qt.MouseButton.LeftButton:
            self.line = [event.position()]

    def move(self, event) -> None:
        if self.line:
            self.line.append(event.position())
        super().move(event)

    def release(self, event) -> None:
        line, self.line = self.line, []
        tracks, rows, at = self._here()
        if not line or tracks is None:
            return
        add = event.modifiers() & Qt.KeyboardModifier.ShiftModifier
        old = self.session.tracks if add else frozenset()
        spread = max((abs((q - line[0]).x()) + abs((q - line[0]).y()) for q in line), default=0)
        if spread < 5:
            found = frozenset()
            if len(rows):
                away = np.linalg.norm(at - [line[0].x(), line[0].y()], axis=1)
                if away.min() < REACH_PX:
                    found = frozenset([int(tracks.track[rows[away.argmin()]])])
            new = old ^ found if add else found
        else:
            shape = QPolygonF(line)
            inside = [shape.containsPoint(QPointF(*xy), Qt.FillRule.OddEvenFill) for xy in at]
            new = old | frozenset(int(tracks.track[r]) for r, i in zip(rows, inside, strict=True) if i)
        self.session.select(self.session.selected, new)
        self.canvas.update()

    def key(self, event) -> bool:
        if event.key() in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace) and self.session.tracks:
            reject_tracks(self.session, self.session.tracks)
            return True
        if event.key() == Qt.Key.Key_Escape:
            self.session.select(self.session.selected, frozenset())
            return True
        return False

    def paint(self, p: QPainter) -> None:
        if len(self.line) > 1:
            p.setPen(QPen(QColor(theme.ACCENT), 1.2))
            p.setBrush(theme.colour(theme.ACCENT, 0.12))
            p.drawPolygon(QPolygonF(self.line))


def reject_tracks(session, numbers, back: bool = False) -> None:
    """Grey tracks, or bring them back; rejected ones are kept."""
    tracks = session.shot.tracks
    rejected = tracks.rejected.copy()
    rejected[list(numbers)] = not back
    label = f"{'Restore' if back else 'Reject'} {len(numbers)} tracks"
    session.set(label, tracks=tracks.with_rejected(rejected))
