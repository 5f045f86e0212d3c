"""The list of work that windows left behind when they ended without saving: looked at, brought back or thrown away."""

from PyQt6.QtWidgets import QDialog, QHBoxLayout, QLabel, QListWidget, QVBoxLayout, QWidget

from lodestar.core.shot.swaps import Left, age_in_words

from .fields import button
from .session import Session


class UnsavedWork(QDialog):
    def __init__(self, session: Session, parent: QWidget) -> None:
        super().__init__(parent)
        self.session = session
        self.setObjectName("unsaved-work")
        self.setWindowTitle("Unsaved work")
        self.resize(620, 320)
        box = QVBoxLayout(self)
        self.list = QListWidget()
        self.list.setObjectName("unsaved-list")
        self.list.setAccessibleName("Unsaved work")
        self.list.currentRowChanged.connect(lambda _: self._enable())
        self.list.itemActivated.connect(lambda _: self._act(session.files.look_at))
        self.hint = QLabel("Kept by the autosave of windows that ended without saving.")
        self.hint.setProperty("role", "quiet")
        row = QHBoxLayout()
        self.buttons = [
            button("Look at it", "unsaved-look", "Open it as a shot without a file; it stays in this list", lambda: self._act(session.files.look_at)),
            button(
                "Bring it back",
                "unsaved-take",
                "Open its shot with this work in it, as a step that can be undone",
                lambda: self._act(session.files.recover),
                True,
            ),
            button("Throw it away", "unsaved-drop", "Delete it; its shot stays as it was saved", self._throw_away),
        ]
        for one in self.buttons:
            row.addWidget(one)
        row.addStretch(1)
        row.addWidget(button("Close", "unsaved-close", "Leave the list as it is", self.reject))
        box.addWidget(self.hint)
        box.addWidget(self.list)
        box.addLayout(row)
        self._fill()

    def _fill(self) -> None:
        self.found = self.session.files.left()
        self.list.clear()
        self.list.addItems([_line(left) for left in self.found])
        self.list.setCurrentRow(0 if self.found else -1)
        self._enable()

    def _enable(self) -> None:
        for one in self.buttons:
            one.setEnabled(self.list.currentRow() >= 0)

    def _act(self, act) -> None:
        if self.list.currentRow() >= 0:
            left = self.found[self.list.currentRow()]
            self.accept()
            act(left)

    def _throw_away(self) -> None:
        self.found[self.list.currentRow()].throw_away()
        self._fill()


def _line(left: Left) -> str:
    of = str(left.path) if left.path is not None else "never saved"
    older = ", saved again since" if left.is_older_than_file else ""
    return f"{left.note.name or 'Untitled'}   {age_in_words(left.at)}   {of}{older}"
