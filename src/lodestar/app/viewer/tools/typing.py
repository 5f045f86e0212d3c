"""Typing on the letters themselves: a caret that stands on them in perspective, and the words that are chosen."""

import cv2
import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen
from PyQt6.QtWidgets import QApplication

from lodestar.core.edits import letters
from lodestar.core.evaluate.counting import numbers_in
from lodestar.core.evaluate.lettering import caret_ends, carets
from lodestar.core.evaluate.objects import box_of, pose_of
from lodestar.core.scene.poses import moved
from lodestar.core.shot.objects import Title, is_there

from ... import theme
from ..drawing import polygon
from .tool import Tool

MOST_LETTERS = 5000


def title_under(canvas, at: QPointF) -> Title | None:
    """The nearest title whose words, with the room between their letters, are under a place of the view."""
    shot, frame, camera = canvas.session.shot, canvas.session.frame, canvas.camera()
    found: list[tuple[float, Title]] = []
    for title in shot.objects if camera is not None else ():
        if isinstance(title, Title) and is_there(title, frame) and not title.locked:
            (x0, y0, z0), (x1, y1, z1) = box_of(title, frame)
            # a straight title by its front; one on a path goes away from that
            ways = ((x0, y0, z0), (x1, y0, z0), (x1, y0, z1), (x0, y0, z1)) + (
                ((x0, y1, z0), (x1, y1, z0), (x1, y1, z1), (x0, y1, z1)) * bool(title.path)
            )
            xy, depth = camera.project(moved(pose_of(shot, title, frame), np.array(ways)))
            hull = cv2.convexHull(canvas.to_widget(xy).astype(np.float32))[:, 0]
            if (depth > 0.01).all() and polygon(hull).containsPoint(at, Qt.FillRule.OddEvenFill):
                found.append((float(depth.mean()), title))
    return min(found, key=lambda one: one[0])[1] if found else None


class TypeWords(Tool):
    """A click puts the caret, a drag or Shift and arrows choose letters, and what is typed goes there; words are one step of undo each."""

    name, label, icon, tip = "type", "Type", "type", "Type on a title's letters; a double click on a title takes this in hand"

    def __init__(self, canvas) -> None:
        super().__init__(canvas)
        self.caret = self.anchor = 0
        self.dragging = False
        self.group: object = None

    def hint(self) -> str:
        if self.title() is None:
            return "Click on the letters of a title"
        return "Type · arrows move the caret, with Shift they choose · Enter: a new line · Escape: done"

    def title(self) -> Title | None:
        item = self.session.object()
        return item if isinstance(item, Title) and not numbers_in(item.text) else None

    def begin(self, at: QPointF) -> None:
        """The caret where the pointer is, on the title in hand."""
        self.group = object()
        self.caret = self.anchor = self._at(at)

    def tell_of_number(self, title: Title) -> bool:
        """Whether a title has a number in its words, which cannot be typed over in the picture; it is said."""
        if numbers_in(title.text):
            self.session.tell("These words hold a number, which is written out in the picture.", "Type them in the field at the right.", "note")
        return numbers_in(title.text)

    # geometry

    def _ends(self, title: Title) -> np.ndarray:
        """(n + 1, 2, 2) px of the view: foot and top of the caret before each letter, and after the last."""
        camera, height = self.canvas.camera(), title.height.at(self.session.frame)[0]
        ends = caret_ends(title, self.session.frame) * height
        xy, depth = camera.project(moved(pose_of(self.session.shot, title, self.session.frame), ends))
        return np.where((depth > 0.01)[..., None], self.canvas.to_widget(xy), np.nan)

    def _at(self, at: QPointF) -> int:
        """The caret that is nearest to a place of the view."""
        title = self.title()
        if title is None or self.canvas.camera() is None:
            return 0
        ends, p = self._ends(title), np.array([at.x(), at.y()])
        way = ends[:, 1] - ends[:, 0]
        share = np.clip(((p - ends[:, 0]) * way).sum(1) / np.maximum((way * way).sum(1), 1e-9), 0, 1)
        away = np.linalg.norm(ends[:, 0] + share[:, None] * way - p, axis=1)
        return int(np.nanargmin(away)) if np.isfinite(away).any() else 0

    # mouse

    def press(self, event) -> None:
        if event.button() != Qt.MouseButton.LeftButton:
            return
        under = title_under(self.canvas, event.position())
        if under is None:
            self.done()
            return
        if under.id != self.session.selected:
            self.session.select(under.id)
        if self.tell_of_number(under):
            return
        self.group, self.dragging = object(), True
        self.caret = self._at(event.position())
        if not event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            self.anchor = self.caret
        self._tell()

    def move(self, event) -> None:
        super().move(event)
        if self.dragging:
            self.caret = self._at(event.position())

    def release(self, event) -> None:
        self.dragging = False
        self._tell()

    # keys

    def takes(self, event) -> bool:
        control = event.modifiers() & Qt.KeyboardModifier.ControlModifier
        return self.title() is not None and (not control or event.key() in (Qt.Key.Key_A, Qt.Key.Key_C, Qt.Key.Key_X, Qt.Key.Key_V))

    def key(self, event) -> bool:
        title = self.title()
        if title is None:
            return False
        self.caret, self.anchor = (min(max(k, 0), len(title.text)) for k in (self.caret, self.anchor))
        key, shift = event.key(), bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        control = bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
        if key == Qt.Key.Key_Escape:
            self.done()
        elif control and key == Qt.Key.Key_A:
            self.anchor, self.caret = 0, len(title.text)
        elif control and key in (Qt.Key.Key_C, Qt.Key.Key_X):
            if self.caret != self.anchor:
                QApplication.clipboard().setText(title.text[slice(*self._range())])
                if key == Qt.Key.Key_X:
                    self._put("")
        elif control and key == Qt.Key.Key_V:
            self._put(QApplication.clipboard().text().replace("\r\n", "\n"))
        elif key in (Qt.Key.Key_Left, Qt.Key.Key_Right, Qt.Key.Key_Up, Qt.Key.Key_Down, Qt.Key.Key_Home, Qt.Key.Key_End):
            self._go(title, key, shift)
        elif key in (Qt.Key.Key_Backspace, Qt.Key.Key_Delete):
            if self.caret == self.anchor:
                self.anchor = min(max(self.caret + (1 if key == Qt.Key.Key_Delete else -1), 0), len(title.text))
            self._put("")
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self._put("\n")
        elif event.text() and event.text().isprintable() and not control:
            self._put(event.text())
        else:
            return False
        self._tell()
        return True

    def writes(self) -> QRectF | None:
        title = self.title()
        if title is None or self.canvas.camera() is None:
            return None
        ends = self._ends(title)
        caret = ends[min(self.caret, len(ends) - 1)]
        return QRectF(QPointF(*caret[0]), QPointF(*caret[1])).normalized() if np.isfinite(caret).all() else QRectF()

    def write(self, text: str) -> None:
        self._put("".join(c for c in text if c.isprintable()))
        self._tell()

    def _tell(self) -> None:
        """The settings show what the letters that are chosen have of their own."""
        self.session.choose_letters(self._range())
        self.canvas.updateMicroFocus()
        self.canvas.update()

    def _range(self) -> tuple[int, int]:
        return min(self.caret, self.anchor), max(self.caret, self.anchor)

    def _put(self, text: str) -> None:
        """What is typed takes the place of what is chosen."""
        title = self.title()
        if title is None:
            return
        a, b = self._range()
        words = title.text[:a] + text + title.text[b:]
        if len(words) > MOST_LETTERS:
            self.refuse(f"A title has at most {MOST_LETTERS:,} letters.", "What was typed was left out.")
            return
        # each edit of a group begins from the words before it, and says them all
        self.session.edit("Type", lambda s: letters.retyped(s, title.id, words), (self.group, title.id))
        self.caret = self.anchor = a + len(text)
        if text.isspace() or not text:
            self.group = object()  # a word is one step of undo

    def _go(self, title: Title, key: Qt.Key, shift: bool) -> None:
        text = title.text
        begin = text.rfind("\n", 0, self.caret) + 1
        end = text.find("\n", self.caret)
        end = len(text) if end < 0 else end
        if key in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            to = self.caret + (1 if key == Qt.Key.Key_Right else -1)
            if self.caret != self.anchor and not shift:
                to = self._range()[key == Qt.Key.Key_Right]
        elif key == Qt.Key.Key_Home:
            to = begin
        elif key == Qt.Key.Key_End:
            to = end
        else:
            places = carets(title, self.session.frame)
            other = begin - 1 if key == Qt.Key.Key_Up else end + 1
            to = self.caret
            if 0 <= other <= len(text):
                first = text.rfind("\n", 0, other) + 1
                last = text.find("\n", first)
                row = np.arange(first, (len(text) if last < 0 else last) + 1)
                to = int(row[np.abs(places[row, 0] - places[self.caret, 0]).argmin()])
        self.caret = min(max(to, 0), len(text))
        if not shift:
            self.anchor = self.caret

    def done(self) -> None:
        self.session.history.close_group()
        self.session.choose_letters(None)
        self.session.use_tool("move")

    def paint(self, p: QPainter) -> None:
        title = self.title()
        if title is None or self.canvas.camera() is None:
            return
        ends = self._ends(title)
        a, b = (min(k, len(ends) - 1) for k in self._range())
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(theme.colour(theme.ACCENT, 0.35))
        for k in range(a, b):
            quad = np.array([ends[k, 0], ends[k + 1, 0], ends[k + 1, 1], ends[k, 1]])
            if np.isfinite(quad).all() and title.text[k] != "\n":
                p.drawPolygon(polygon(quad))
        caret = ends[min(self.caret, len(ends) - 1)]
        if np.isfinite(caret).all():
            p.setPen(QPen(QColor(theme.ACCENT), 2))
            p.drawLine(QPointF(*caret[0]), QPointF(*caret[1]))
