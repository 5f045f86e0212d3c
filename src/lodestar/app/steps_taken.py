"""The list of what was done: each step of undo by its name; a click goes back, or forward again, to it."""

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QDialog, QLabel, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from . import theme
from .session import Session

BEGINNING = "As it was opened"


class StepsTaken(QDialog):
    """It follows the shot while it is open. What was undone is listed below, quiet."""

    def __init__(self, session: Session, parent: QWidget) -> None:
        super().__init__(parent)
        self.session = session
        self.setObjectName("steps-taken")
        self.setWindowTitle("What was done")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.resize(320, 420)
        box = QVBoxLayout(self)
        self.list = QListWidget()
        self.list.setObjectName("steps-list")
        self.list.setAccessibleName("Steps, the first one on top")
        self.list.itemClicked.connect(self._go)
        self.list.itemActivated.connect(self._go)
        box.addWidget(self.list)
        note = QLabel("A click goes to that step; what comes after it stays until something new is done.")
        note.setWordWrap(True)
        note.setProperty("role", "quiet")
        box.addWidget(note)
        session.shot_changed.connect(self.fill)
        self.fill()

    def fill(self) -> None:
        past, future = self.session.history.labels()
        self.list.clear()
        for number, label in enumerate([BEGINNING, *past, *future]):
            item = QListWidgetItem(label)
            item.setData(Qt.ItemDataRole.UserRole, number)
            if number > len(past):
                item.setForeground(theme.colour(theme.QUIET, 1.0))
            self.list.addItem(item)
        self.list.setCurrentRow(len(past))

    def _go(self, item: QListWidgetItem) -> None:
        self.session.go_to_step(item.data(Qt.ItemDataRole.UserRole))
