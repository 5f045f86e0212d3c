"""What the user is told: the strip over the foot of the picture, the log of messages, and the nets for faults of the program."""

import logging
import sys
import threading
import time
import traceback
from collections.abc import Callable
from pathlib import Path

from PyQt6.QtCore import QObject, Qt, QTimer, QUrl, pyqtSignal
from PyQt6.QtGui import QDesktopServices
from PyQt6.QtWidgets import QDialog, QHBoxLayout, QLabel, QPlainTextEdit, QPushButton, QVBoxLayout, QWidget

from lodestar.core.basics.faults import state_folder, write_report
from lodestar.core.render import embree

from . import theme
from .fields import icon_button
from .session import Message, Session

NOTE_MS = 7000
log = logging.getLogger(__name__)


class Strip(QWidget):
    """The newest message, over the foot of the view, so that nothing moves under the pointer: what happened, what to do, and buttons
    where there is something to choose. Notes go by themselves; a message whose cause is gone goes too."""

    def __init__(self, session: Session, view: QWidget) -> None:
        super().__init__(view.parentWidget())
        self.message: Message | None = None
        self.view = view
        view.installEventFilter(self)
        self.setObjectName("strip")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        row = QHBoxLayout(self)
        row.setContentsMargins(16, 4, 8, 4)
        self.mark, self.text = QLabel(), QLabel()
        self.text.setObjectName("strip-text")
        self.text.setWordWrap(True)
        self.text.setTextFormat(Qt.TextFormat.PlainText)
        self.buttons = QHBoxLayout()
        close = icon_button("x", "strip-close", "Put this message away; it stays in the log", self.hide)
        row.addWidget(self.mark)
        row.addWidget(self.text, 1)
        row.addLayout(self.buttons)
        row.addWidget(close)
        self._timer = QTimer(self, interval=NOTE_MS, singleShot=True)
        self._timer.timeout.connect(self.hide)
        session.told.connect(self.show_message)
        session.shot_changed.connect(self._look_again)
        session.view_changed.connect(self._look_again)
        self.hide()

    def _look_again(self) -> None:
        if self.message is not None and not self.message.holds():
            self.message = None
            self.hide()

    def eventFilter(self, watched, event) -> bool:
        if event.type() in (event.Type.Resize, event.Type.Move):
            self._arrange()
        return False

    def _arrange(self) -> None:
        place = self.view.geometry()
        height = max(self.layout().heightForWidth(place.width()), self.minimumSizeHint().height())
        self.setGeometry(place.left(), place.bottom() + 1 - height, place.width(), height)
        self.raise_()

    def show_message(self, message: Message) -> None:
        while self.buttons.count():
            self.buttons.takeAt(0).widget().deleteLater()
        tint = {"bad": theme.BAD, "doubtful": theme.DOUBTFUL}.get(message.kind, theme.QUIET)
        self.setStyleSheet(
            f"#strip {{ background: {theme.FIELD}; border-left: 3px solid {tint}; border-top: 1px solid {theme.LINE}; }} #strip QLabel {{ background: transparent; }}"
        )
        self.mark.setText({"bad": "■", "doubtful": "◐"}.get(message.kind, "●"))
        self.mark.setStyleSheet(f"color: {tint};")
        self.message = message
        self.text.setText(f"{message.what} {message.hint}".strip())
        for label, act in message.actions:
            b = QPushButton(label)
            b.setObjectName(f"strip-{label.lower().replace(' ', '-')}")
            b.clicked.connect(lambda _, a=act: (self.hide(), a()))
            self.buttons.addWidget(b)
        self._arrange()
        self.show()
        if message.kind == "note" and not message.actions:
            self._timer.start()
        else:
            self._timer.stop()


class Log(QDialog):
    def __init__(self, session: Session, parent: QWidget) -> None:
        super().__init__(parent)
        self.setObjectName("message-log")
        self.setWindowTitle("Messages")
        self.resize(640, 320)
        box = QVBoxLayout(self)
        text = QPlainTextEdit(readOnly=True)
        lines = [f"{time.strftime('%H:%M:%S', time.localtime(m.at))}  {m.what} {m.hint}".rstrip() for m in session.messages]
        text.setPlainText("\n".join(lines) or "Nothing was told yet.")
        folder = state_folder()
        where = QLabel(f"Details of faults are kept in {folder}" if folder else "Details of faults are not kept: no folder for them can be written.")
        where.setProperty("role", "quiet")
        box.addWidget(text)
        box.addWidget(where)


def catch_faults(told: Callable[[str, Path | None], None]) -> None:
    """No exception ends the program: a report is written, and it is told in one sentence. (PyQt would abort.) told: what it is
    called, and where the report is."""

    def hook(kind, value, trace) -> None:
        if issubclass(kind, KeyboardInterrupt):
            sys.__excepthook__(kind, value, trace)
            return
        log.critical("a fault of the program; %s", embree.description(), exc_info=(kind, value, trace))
        told(kind.__name__, write_report(value or kind(), {"renderer": embree.description()}))
        traceback.clear_frames(trace)  # Python keeps the last one; a painter in it that outlives its paint takes the window down

    sys.excepthook = hook
    threading.excepthook = lambda args: hook(args.exc_type, args.exc_value, args.exc_traceback)


class FaultTeller(QObject):
    """Tells a fault in one sentence, from whatever thread it comes; the work is kept at once, since nobody knows what comes next."""

    happened = pyqtSignal(str, object)

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.session = session
        self.happened.connect(self._tell)

    def _tell(self, kind: str, report: Path | None) -> None:
        self.session.files.autosave()
        show = (("Show the report", lambda: QDesktopServices.openUrl(QUrl.fromLocalFile(str(report)))),) if report else ()
        self.session.tell(
            f"Something went wrong in the program itself ({kind}).", "Your work is as it was before this step, and was kept at once.", "bad", *show
        )


def log_to_file() -> None:
    from logging.handlers import RotatingFileHandler

    folder = state_folder()
    if folder is None:
        return
    handler = RotatingFileHandler(folder / "log.txt", maxBytes=1_000_000, backupCount=1)
    handler.setFormatter(logging.Formatter("%(asctime)s %(levelname)s %(name)s: %(message)s"))
    logging.getLogger().addHandler(handler)
