"""Choosing a face by looking: the user's own words in each, searched, filtered, with favourites and those used last."""

import contextlib
from concurrent.futures import ThreadPoolExecutor

from PyQt6.QtCore import QAbstractListModel, QModelIndex, QPointF, QRectF, QSettings, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QImage, QPainter, QPainterPath
from PyQt6.QtWidgets import QDialog, QHBoxLayout, QLineEdit, QListView, QStyle, QStyledItemDelegate, QToolButton, QVBoxLayout, QWidget

from lodestar.core.basics.errors import UserError
from lodestar.core.shape.fontconfig import SCRIPTS, Found
from lodestar.core.shape.fonts import SHIPPED, face_of, system_faces
from lodestar.core.shape.outlines import glyph_outline
from lodestar.core.shape.setting import letters_of, word_box

from . import theme
from .fields import Choice

WIDTH, HEIGHT, ROW = 480, 520, 58
MOST_RECENT, MOST_WORDS = 8, 24
WEIGHTS = {"any weight": (0, 1000), "light": (0, 349), "regular": (350, 549), "bold": (550, 749), "heavy": (750, 1000)}
WIDTHS = {"any width": (0, 1000), "narrow": (0, 89), "normal": (90, 110), "wide": (111, 1000)}
GROUPS = ("all faces", "favourites", "used last", "shipped", "all letters equally wide")


def picture_of(name: str, words: str, width: int, height: int, tint: str) -> QImage | None:
    """The words in a face, as an image of so many px; None where the face cannot be read. For a thread of its own: it touches no widget."""
    try:
        face = face_of(name)
        letters, _ = letters_of(face, words)
        (x0, y0), (x1, y1) = word_box(face, words)
    except UserError:
        return None
    scale = min(height * 0.5, width / max(x1 - x0, 1e-6), height * 0.86 / max(y1 - y0, 1e-6))
    path = QPainterPath()
    path.setFillRule(Qt.FillRule.WindingFill)
    for one in letters:
        for contour in glyph_outline(one.face, one.glyph):
            points = [QPointF((one.x - x0 + x * one.em) * scale, -(one.y + y * one.em) * scale) for x, y in contour]
            path.moveTo(points[0])
            for p in points[1:]:
                path.lineTo(p)
            path.closeSubpath()
    image = QImage(width, height, QImage.Format.Format_ARGB32_Premultiplied)
    image.fill(Qt.GlobalColor.transparent)
    painter = QPainter(image)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.translate(0, height / 2 + (y0 + y1) / 2 * scale)
    painter.fillPath(path, QColor(tint))
    painter.end()
    return image


class Pictured(QAbstractListModel):
    """What is listed now, by name, and pictures of it, which are made beside the interface as they come into view."""

    made = pyqtSignal(str, object)

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.names: list[str] = []
        self.pictures: dict[str, QImage | None] = {}
        self._asked: set[str] = set()
        self._pool = ThreadPoolExecutor(1, "listed")
        self.made.connect(self._take)

    def rowCount(self, parent: QModelIndex | None = None) -> int:
        return len(self.names)

    def data(self, index: QModelIndex, role: int = Qt.ItemDataRole.DisplayRole):
        name = self.names[index.row()]
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.AccessibleTextRole):
            return name
        return None

    def show_names(self, names: list[str]) -> None:
        self.beginResetModel()
        self.names = names
        self.endResetModel()

    def picture(self, name: str, size: QSize) -> QImage | None:
        """The picture of one; None until it is made, or where it cannot be."""
        if name not in self._asked:
            self._asked.add(name)
            self._pool.submit(self._make, name, size.width(), size.height())
        return self.pictures.get(name)

    def _make(self, name: str, width: int, height: int) -> None:
        image = self.image_of(name, width, height)
        with contextlib.suppress(RuntimeError):  # the chooser was closed meanwhile
            self.made.emit(name, image)

    def _take(self, name: str, image: QImage | None) -> None:
        self.pictures[name] = image
        if name in self.names:
            at = self.index(self.names.index(name))
            self.dataChanged.emit(at, at)

    def forget(self, name: str) -> None:
        """The picture of one is made anew."""
        self._asked.discard(name)
        self.pictures.pop(name, None)

    def image_of(self, name: str, width: int, height: int) -> QImage | None:
        """The picture of one; called in a thread of its own."""
        raise NotImplementedError

    def close(self) -> None:
        self._pool.shutdown(wait=True, cancel_futures=True)


class Faces(Pictured):
    """Faces, with the user's words in each."""

    def __init__(self, words: str, parent: QWidget) -> None:
        super().__init__(parent)
        self.words = " ".join(words.split())[:MOST_WORDS] or "Title"

    def image_of(self, name: str, width: int, height: int) -> QImage | None:
        return picture_of(name, self.words, width, height, theme.TEXT)


class _Row(QStyledItemDelegate):
    def __init__(self, chooser: "FaceChooser") -> None:
        super().__init__(chooser)
        self.chooser = chooser

    def sizeHint(self, option, index) -> QSize:
        return QSize(WIDTH - 40, ROW)

    def paint(self, p, option, index) -> None:
        p.save()
        name, rect = index.data(), QRectF(option.rect)
        if option.state & QStyle.StateFlag.State_Selected:
            p.fillRect(rect, QColor(theme.CHOSEN_ROW))
        ratio = p.device().devicePixelRatioF()
        size = QSize(int((rect.width() - 44) * ratio), int(34 * ratio))
        image = self.chooser.model.picture(name, size)
        if image is not None:
            p.drawImage(QRectF(rect.x() + 12, rect.y() + 3, rect.width() - 44, 34), image)
        p.setPen(QColor(theme.QUIET))
        p.setFont(theme.font(11))
        told = "" if image is not None or name not in self.chooser.model.pictures else " · cannot be read"
        p.drawText(rect.adjusted(12, 38, -30, 0), Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft, name + told)
        p.setPen(QColor(theme.READING if name in self.chooser.favourites else theme.QUIET))
        p.setFont(theme.font(15))
        p.drawText(
            QRectF(rect.right() - 28, rect.y(), 24, rect.height()), Qt.AlignmentFlag.AlignCenter, "●" if name in self.chooser.favourites else "○"
        )
        p.restore()

    def editorEvent(self, event, model, option, index) -> bool:
        if event.type() == event.Type.MouseButtonRelease and event.position().x() > option.rect.right() - 30:
            self.chooser.switch_favourite(index.data())
            return True
        return False


class FaceChooser(QDialog):
    """A list beside the button that opened it. A click, or the arrow keys, shows a face at once in the title; Enter or a double click keeps it
    and closes the list, Escape puts the old one back."""

    chosen = pyqtSignal(str)

    def __init__(self, parent: QWidget, words: str, now: str) -> None:
        super().__init__(parent, Qt.WindowType.Tool | Qt.WindowType.FramelessWindowHint)
        self.setObjectName("face-chooser")
        self.setWindowTitle("Faces")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.setFixedSize(WIDTH, HEIGHT)
        self.before = self.now = now
        self.settings = QSettings("bright-lodestar", "window")
        self.favourites: list[str] = list(self.settings.value("faces/favourites", []) or [])
        self.recent: list[str] = list(self.settings.value("faces/recent", []) or [])
        self.model = Faces(words, self)
        box = QVBoxLayout(self)
        box.setContentsMargins(10, 10, 10, 10)
        top, filters = QHBoxLayout(), QHBoxLayout()
        self.search = QLineEdit()
        self.search.setObjectName("face-search")
        self.search.setPlaceholderText("Search by name")
        self.search.setAccessibleName("Search faces by name")
        self.search.textChanged.connect(self.fill)
        self.search.installEventFilter(self)
        top.addWidget(self.search, 1)
        close = QToolButton(text="Keep")
        close.setObjectName("face-keep")
        close.setToolTip("Keep the face that is shown, and close the list")
        close.clicked.connect(self.keep)
        top.addWidget(close)
        box.addLayout(top)
        self.group = self._choice("face-group", "Which faces", GROUPS)
        self.weight = self._choice("face-weight", "Weight", WEIGHTS)
        self.width_ = self._choice("face-width", "Width", WIDTHS)
        self.script = self._choice("face-script", "Script", ("any script", *SCRIPTS))
        for choice in (self.group, self.weight, self.width_, self.script):
            filters.addWidget(choice, 1)
        box.addLayout(filters)
        self.list = QListView()
        self.list.setObjectName("face-list")
        self.list.setAccessibleName("Faces")
        self.list.setUniformItemSizes(True)
        self.list.setModel(self.model)
        self.list.setItemDelegate(_Row(self))
        self.list.setVerticalScrollMode(QListView.ScrollMode.ScrollPerPixel)
        self.list.selectionModel().currentChanged.connect(lambda at, _: self._show(at.data()) if at.isValid() else None)
        self.list.doubleClicked.connect(lambda _: self.keep())
        box.addWidget(self.list, 1)
        self.fill()

    def _choice(self, name: str, spoken: str, words) -> Choice:
        box = Choice()
        box.setObjectName(name)
        box.setAccessibleName(spoken)
        box.setToolTip(f"{spoken}: which ones are listed")
        box.addItems(list(words))
        box.setMinimumContentsLength(6)
        box.setSizeAdjustPolicy(Choice.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        box.activated.connect(lambda _: self.fill())
        return box

    def show_beside(self, button: QWidget) -> None:
        at = button.mapToGlobal(button.rect().topLeft())
        screen = button.screen().availableGeometry()
        x = max(at.x() - WIDTH - 8, screen.left() + 8)
        self.move(x, min(max(at.y() - 60, screen.top() + 8), screen.bottom() - HEIGHT - 8))
        self.show()
        self.activateWindow()  # a desktop does not give the keyboard to a tool's window by itself
        self.search.setFocus()

    def fill(self, _: object = None) -> None:
        """The faces that suit what is asked for, the shipped ones first."""
        known = system_faces()
        names = [*SHIPPED, *sorted((n for n in known if n not in SHIPPED), key=str.casefold)]
        group, text = self.group.currentText(), self.search.text().casefold().split()
        if group == "favourites":
            names = [n for n in names if n in self.favourites]
        elif group == "used last":
            names = [n for n in self.recent if n in names]
        elif group == "shipped":
            names = list(SHIPPED)
        weight, width, script = WEIGHTS[self.weight.currentText()], WIDTHS[self.width_.currentText()], self.script.currentText()

        def suits(name: str) -> bool:
            face = known.get(name) or _SHIPPED_AS.get(name)
            if face is None or not all(word in name.casefold() for word in text):
                return False
            fits = weight[0] <= face.weight <= weight[1] and width[0] <= face.width <= width[1]
            return fits and (script not in SCRIPTS or script in face.scripts) and (group != GROUPS[-1] or face.fixed)

        self.model.show_names([n for n in names if suits(n)])
        if self.now in self.model.names:
            at = self.model.index(self.model.names.index(self.now))
            self.list.setCurrentIndex(at)
            self.list.scrollTo(at, QListView.ScrollHint.PositionAtCenter)

    def _show(self, name: str) -> None:
        if name and name != self.now:
            self.now = name
            self.chosen.emit(name)

    def switch_favourite(self, name: str) -> None:
        self.favourites = [f for f in self.favourites if f != name] if name in self.favourites else [*self.favourites, name]
        self.settings.setValue("faces/favourites", self.favourites)
        self.list.viewport().update()

    def keep(self) -> None:
        self.recent = [self.now, *(f for f in self.recent if f != self.now)][:MOST_RECENT]
        self.settings.setValue("faces/recent", self.recent)
        self.before = self.now
        self.close()

    def eventFilter(self, watched, event) -> bool:
        """Arrows in the search go through the list."""
        if event.type() == event.Type.KeyPress and event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down, Qt.Key.Key_PageUp, Qt.Key.Key_PageDown):
            self.list.keyPressEvent(event)
            return True
        return False

    def keyPressEvent(self, event) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.keep()
        elif event.key() == Qt.Key.Key_Escape:
            if self.now != self.before:
                self.chosen.emit(self.before)
            self.close()
        else:
            super().keyPressEvent(event)

    def closeEvent(self, event) -> None:
        self.model.close()
        super().closeEvent(event)


def _shipped(name: str, weight: int, width: int = 100) -> Found:
    return Found(name, name, "", face_of(name).path, 0, weight, width, False, False, frozenset({"Latin"}))


_SHIPPED_AS = {
    name: _shipped(name, weight, width)
    for name, weight, width in (
        ("Inter Display Black", 900, 100),
        ("Zilla Slab Bold", 700, 100),
        ("Bebas Neue Bold", 700, 75),
        ("Allerta Stencil", 400, 100),
        ("Kaushan Script", 400, 100),
    )
}
