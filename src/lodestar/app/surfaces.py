"""Choosing a surface by looking: the title's own first letter in each, ready ones and the user's own."""

import contextlib
import os
from collections.abc import Callable
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QImage
from PyQt6.QtWidgets import QDialog, QFileDialog, QHBoxLayout, QInputDialog, QListView, QStyle, QStyledItemDelegate, QVBoxLayout, QWidget

from lodestar.core.basics.errors import UserError
from lodestar.core.edits.own_surfaces import ENDING, OwnSurface, own_files, own_of, read_own, write_own
from lodestar.core.edits.surfaces import READY, with_made_of
from lodestar.core.picture.swatch import letter_of, swatch
from lodestar.core.render.engine import Engine
from lodestar.core.shot.document import Shot
from lodestar.core.shot.objects import Title

from . import theme
from .faces import Pictured
from .fields import button

SIDE, NAME_HEIGHT, COLUMNS, ROWS = 84, 20, 3, 6


def surfaces_folder() -> Path:
    """Where the user's own surfaces are kept (XDG_DATA_HOME)."""
    return Path(os.environ.get("XDG_DATA_HOME") or Path.home() / ".local" / "share") / "bright-lodestar" / "surfaces"


class Swatches(Pictured):
    """Surfaces by their names, and a letter in each."""

    def __init__(self, shot: Shot, id_: str, frame: int, parent: QWidget) -> None:
        super().__init__(parent)
        item = next((o for o in shot.objects if o.id == id_), None)
        self.shot, self.frame = shot, frame
        self.letter = letter_of(item)
        self.made_of: dict[str, dict[str, Any]] = {}
        self._engine: Engine | None = None

    def image_of(self, name: str, width: int, height: int) -> QImage | None:
        self._engine = self._engine or Engine()  # it belongs to the thread that makes the pictures
        dressed = with_made_of(Shot(objects=(self.letter,)), self.letter.id, self.made_of[name], 0)
        (letter,) = dressed.objects
        assert isinstance(letter, Title)
        try:
            pixels = swatch(self._engine, self.shot, letter, self.frame, min(width, height))
        except UserError:
            return None
        if pixels is None:
            return None
        # premultiplied red, green, blue, alpha
        return QImage(pixels.data, pixels.shape[1], pixels.shape[0], pixels.shape[1] * 4, QImage.Format.Format_RGBA8888_Premultiplied).copy()


class _Cell(QStyledItemDelegate):
    def sizeHint(self, option, index) -> QSize:
        return QSize(SIDE + 8, SIDE + NAME_HEIGHT)

    def paint(self, p, option, index) -> None:
        p.save()
        rect, name = QRectF(option.rect), index.data()
        if option.state & QStyle.StateFlag.State_Selected:
            p.fillRect(rect, QColor(theme.CHOSEN_ROW))
        side = int(SIDE * p.device().devicePixelRatioF())
        image = index.model().picture(name, QSize(side, side))
        if image is not None:
            p.drawImage(QRectF(rect.x() + 4, rect.y() + 2, SIDE, SIDE), image)
        p.setPen(QColor(theme.READING))
        p.setFont(theme.font(11))
        text = p.fontMetrics().elidedText(name, Qt.TextElideMode.ElideRight, SIDE)
        p.drawText(rect.adjusted(4, SIDE, -4, 0), Qt.AlignmentFlag.AlignCenter, text)
        p.restore()


class SurfaceChooser(QDialog):
    """A grid over the settings. A click, or the arrow keys and Enter, gives the chosen objects a surface; it stays open. The surface
    of the chosen object can be kept as the user's own, and one of a file opened."""

    chosen = pyqtSignal(str, dict)

    def __init__(self, parent: QWidget, session) -> None:
        super().__init__(parent, Qt.WindowType.Tool | Qt.WindowType.FramelessWindowHint)
        self.session = session
        self.setObjectName("surface-chooser")
        self.setWindowTitle("Surfaces")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.setFixedSize(COLUMNS * (SIDE + 8) + 40, ROWS * (SIDE + NAME_HEIGHT) + 60)
        box = QVBoxLayout(self)
        box.setContentsMargins(10, 10, 10, 10)
        self.model = Swatches(session.shot, session.selected, session.frame, self)
        self.list = QListView()
        self.list.setObjectName("surface-list")
        self.list.setAccessibleName("Surfaces")
        self.list.setViewMode(QListView.ViewMode.IconMode)
        self.list.setMovement(QListView.Movement.Static)
        self.list.setResizeMode(QListView.ResizeMode.Adjust)
        self.list.setUniformItemSizes(True)
        self.list.setModel(self.model)
        self.list.setItemDelegate(_Cell(self))
        self.list.clicked.connect(self._take)
        self.list.activated.connect(self._take)
        box.addWidget(self.list, 1)
        row = QHBoxLayout()
        for one in (
            button("Keep this…", "keep-surface", "The surface of the chosen object is kept under a name, for all shots", self._keep),
            button("Open a file…", "open-surface", f"A surface that was kept elsewhere (*{ENDING}) joins your own", self._open),
            button("Close", "close-surfaces", "Close the list", self.close),
        ):
            row.addWidget(one)
        box.addLayout(row)
        self.fill()

    def fill(self) -> None:
        own: dict[str, dict[str, Any]] = {}
        for path in own_files(surfaces_folder()):
            with contextlib.suppress(UserError):  # one that is damaged is not offered
                own[path.stem] = read_own(path).made_of
        self.model.made_of = {**READY, **own}
        self.model.show_names([*own, *(name for name in READY if name not in own)])

    def show_over(self, widget: QWidget) -> None:
        """Over the settings, not over the picture, in which the surface is judged."""
        at, screen = widget.mapToGlobal(widget.rect().topLeft()), widget.screen().availableGeometry()
        x = min(max(at.x() + widget.width() - self.width() + 24, screen.left() + 8), screen.right() - self.width())
        self.move(x, min(max(at.y() - 120, screen.top() + 8), screen.bottom() - self.height() - 8))
        self.show()
        self.activateWindow()  # a desktop does not give the keyboard to a tool's window by itself
        self.list.setFocus()

    def _take(self, index) -> None:
        self.chosen.emit(index.data(), self.model.made_of[index.data()])

    def _keep(self) -> None:
        name, well = QInputDialog.getText(self, "Keep this surface", "Its name:")
        if well and name.strip():
            self.keep_as(name)

    def keep_as(self, name: str) -> None:
        """Keep the surface of the chosen object under a name, in place of one of that name."""

        def make() -> OwnSurface:
            return own_of(self.session.shot, self.session.selected, name, self.session.frame)

        self._store(make)

    def _open(self) -> None:
        path, _ = QFileDialog.getOpenFileName(self, "Open a surface", str(Path.home()), f"Surfaces (*{ENDING})")
        if path:
            self._store(lambda: read_own(Path(path)))

    def _store(self, make: Callable[[], OwnSurface]) -> None:
        try:
            own = make()
            surfaces_folder().mkdir(parents=True, exist_ok=True)
            stem = "".join(c if c.isalnum() or c in " ,-_()" else "-" for c in own.name).strip() or "Surface"
            write_own(own, surfaces_folder() / f"{stem}{ENDING}")
        except UserError as error:
            self.session.fail(error)
        except OSError as error:
            self.session.fail(
                UserError(
                    f"The surface cannot be kept: {(error.strerror or 'its folder cannot be made').lower()}.",
                    "Look at the rights of your data folder.",
                )
            )
        else:
            self.model.forget(own.name)
            self.fill()

    def closeEvent(self, event) -> None:
        self.model.close()
        super().closeEvent(event)
