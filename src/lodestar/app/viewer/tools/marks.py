"""Choosing tracks, rejecting them and bringing them back; asking for more of them; placing one by hand."""

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen, QPolygonF

from lodestar.core.edits.settle import with_tracks
from lodestar.core.track.edit import deleted, joined
from lodestar.core.track.refine import HALF
from lodestar.core.work.tracking import SEARCH_PX

from ... import theme
from .tool import REACH_PX, Tool

CLICK_PX = 5  # a drag that stays within is a click


class Lasso:
    """A line drawn round something, or with Ctrl a rectangle, in widget coordinates. Where a plain drag means something else, Ctrl
    begins one, and with Alt it is a line."""

    def __init__(self) -> None:
        self.line: list[QPointF] = []
        self.square = False

    def begin(self, event) -> None:
        held, keys = event.modifiers(), Qt.KeyboardModifier
        self.line, self.square = [event.position()], bool(held & keys.ControlModifier) and not held & keys.AltModifier

    def go_on(self, event) -> None:
        if self.line:
            self.line.append(event.position())

    def end(self) -> QPolygonF | None:
        """The closed shape, or None for a click; the line begins anew."""
        shape = self.shape() if self.reach() >= CLICK_PX else None
        self.line = []
        return shape

    def reach(self) -> float:
        return max((abs((q - self.line[0]).x()) + abs((q - self.line[0]).y()) for q in self.line), default=0.0)

    def shape(self) -> QPolygonF:
        return QPolygonF(QRectF(self.line[0], self.line[-1]).normalized()) if self.square else QPolygonF(self.line)

    def paint(self, p: QPainter) -> None:
        if len(self.line) > 1:
            p.setPen(QPen(QColor(theme.ACCENT), 1.2))
            p.setBrush(theme.colour(theme.ACCENT, 0.12))
            p.drawPolygon(self.shape())


def caught(shape: QPolygonF, at: np.ndarray) -> np.ndarray:
    """(n,) bool: which of the widget places (n, 2) lie inside."""
    return np.array([shape.containsPoint(QPointF(*xy), Qt.FillRule.OddEvenFill) for xy in at], bool).reshape(len(at))


class MarksTool(Tool):
    """What the tools on marks share: the marks of this frame."""

    def here(self):
        """The tracks, the rows of this frame, and where these are in the widget; None without tracks."""
        tracks = self.session.shot.tracks
        if tracks is None:
            return None
        rows = tracks.at(self.session.frame)
        return tracks, rows, self.canvas.to_widget(tracks.xy[rows]).reshape(-1, 2)

    def nearest(self, at: QPointF) -> int | None:
        """The track whose mark is under the pointer."""
        here = self.here()
        if here is None or len(here[1]) == 0:
            return None
        away = np.linalg.norm(here[2] - [at.x(), at.y()], axis=1)
        return int(here[0].track[here[1][away.argmin()]]) if away.min() < REACH_PX else None


class LassoTool(MarksTool):
    """A tool on marks that begins with a line drawn round something."""

    def __init__(self, canvas) -> None:
        super().__init__(canvas)
        self.lasso = Lasso()

    def press(self, event) -> None:
        if event.button() == Qt.MouseButton.LeftButton:
            self.lasso.begin(event)

    def move(self, event) -> None:
        self.lasso.go_on(event)
        super().move(event)

    def paint(self, p: QPainter) -> None:
        self.lasso.paint(p)


class ChooseMarks(LassoTool):
    name, label, icon, tip = "marks", "Choose", "lasso", "Click a mark, Shift adds, drag a line round several, or with Ctrl a rectangle"

    def hint(self) -> str:
        n = len(self.session.tracks)
        return (f"{n} chosen · " if n else "") + "Click a mark · Shift adds · drag round several, Ctrl for a rectangle · Delete rejects"

    def release(self, event) -> None:
        if not self.lasso.line:
            return
        start, shape, here = self.lasso.line[0], self.lasso.end(), self.here()
        if here is None:
            return
        tracks, rows, at = here
        add = event.modifiers() & Qt.KeyboardModifier.ShiftModifier
        old = self.session.tracks if add else frozenset()
        if shape is None:
            one = self.nearest(start)
            found = frozenset() if one is None else frozenset([one])
            new = old ^ found if add else found
        else:
            new = old | frozenset(int(t) for t in tracks.track[rows[caught(shape, at)]])
        self.session.select(self.session.selected, new)
        self.canvas.update()

    def key(self, event) -> bool:
        if event.key() in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace) and self.session.tracks:
            if event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
                delete_tracks(self.session, self.session.tracks)
            else:
                reject_tracks(self.session, self.session.tracks)
            return True
        if event.key() == Qt.Key.Key_Escape:
            self.session.select(self.session.selected, frozenset())
            return True
        return False


class MoreHere(LassoTool):
    name, label, icon, tip = "more", "More here", "circle-plus", "Drag a line round a post or a sign: everything there that can be followed is added"

    def hint(self) -> str:
        return f"Drag a line round a place, Ctrl for a rectangle · tracks of {self.session.least_frames} frames or more are added"

    def release(self, event) -> None:
        if not self.lasso.line:
            return
        shape = self.lasso.end()
        if shape is None:
            self.refuse("A click is no place.", "Drag a line round what should have more tracks.")
            return
        corners = np.array([self.canvas.to_plate(shape.at(k)) for k in range(shape.count())])
        self.session.work.more_tracks(corners)
        self.canvas.update()


class PlaceByHand(MarksTool):
    name, label, icon, tip = (
        "hand",
        "Place one",
        "crosshair",
        "Click a distinct spot: it is followed both ways; drag its mark elsewhere to correct it at that frame",
    )

    def __init__(self, canvas) -> None:
        super().__init__(canvas)
        self.held: int | None = None

    def chosen(self) -> int | None:
        """The track in hand, if it is one that was placed by hand."""
        tracks = self.session.shot.tracks
        if tracks is None or len(self.session.tracks) != 1:
            return None
        number = next(iter(self.session.tracks))
        return number if number in tracks.keys[:, 0] else None

    def hint(self) -> str:
        if self.chosen() is None:
            return "Click a distinct spot: it is followed both ways from here"
        return "Drag the mark to correct it at this frame · click elsewhere places another · Escape lets go of it"

    def press(self, event) -> None:
        if event.button() != Qt.MouseButton.LeftButton:
            return
        under = self.nearest(event.position())
        tracks = self.session.shot.tracks
        self.held = under if under is not None and tracks is not None and under in tracks.keys[:, 0] else None
        if self.held is not None:
            self.session.select(self.session.selected, frozenset([self.held]))
        self.pressed = event.position()

    def release(self, event) -> None:
        if event.button() != Qt.MouseButton.LeftButton:
            return
        held, self.held = self.held, None
        if held is not None and (event.position() - self.pressed).manhattanLength() < CLICK_PX:
            return  # only taken in hand
        self.session.work.place_track(held, self.canvas.to_plate(event.position()))
        self.canvas.update()

    def key(self, event) -> bool:
        if event.key() == Qt.Key.Key_Escape:
            self.session.select(self.session.selected, frozenset())
            return True
        if event.key() in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace) and self.chosen() is not None:
            delete_tracks(self.session, [self.chosen()])
            return True
        return False

    def paint(self, p: QPainter) -> None:
        """The patch that is looked for and, round it, how far it is looked for."""
        if self.pointer is None:
            return
        p.setBrush(Qt.BrushStyle.NoBrush)
        for reach, tint in ((HALF + 0.5, theme.colour(theme.ACCENT, 1.0)), (HALF + 0.5 + SEARCH_PX, theme.colour(theme.ACCENT, 0.45))):
            size = reach * self.canvas.scale
            for pen in (QPen(theme.colour("#000000", 0.5), 3), QPen(tint, 1)):  # dark below, so that it is seen on any picture
                p.setPen(pen)
                p.drawRoundedRect(QRectF(self.pointer.x() - size, self.pointer.y() - size, 2 * size, 2 * size), 3, 3)


def reject_tracks(session, numbers, back: bool = False) -> None:
    """Grey tracks, or bring them back; rejected ones are kept."""
    tracks = session.shot.tracks
    rejected = tracks.rejected.copy()
    rejected[list(numbers)] = not back
    label = f"{'Restore' if back else 'Reject'} {len(numbers)} tracks"
    session.edit(label, lambda s: with_tracks(s, tracks.with_rejected(rejected)))


def delete_tracks(session, numbers) -> None:
    """Take tracks away for good (but for undo)."""
    session.edit(f"Delete {len(numbers)} tracks", lambda s: with_tracks(s, deleted(s.tracks, np.array(sorted(numbers)))))
    session.select(session.selected, frozenset())


def join_tracks(session, numbers) -> None:
    """The chosen tracks as one."""
    session.edit(f"Join {len(numbers)} tracks", lambda s: with_tracks(s, joined(s.tracks, np.array(sorted(numbers)))))
    session.select(session.selected, frozenset([min(numbers)]))
