"""Starts the window."""

import ctypes
import os
import signal
import sys
from pathlib import Path

from lodestar.core.basics import apart
from lodestar.core.basics.errors import UserError


def check_display() -> None:
    """Raises UserError where there is no screen to open a window on; Qt would end the program with words of its own."""
    if os.environ.get("QT_QPA_PLATFORM") or os.environ.get("WAYLAND_DISPLAY"):
        return
    name = os.environ.get("DISPLAY")
    hint = "Start it in a desktop's session, or use the commands that need no window: new, update, render (see lodestar --help)."
    if not name:
        raise UserError("There is no screen to open the window on.", hint)
    try:
        xcb = ctypes.CDLL("libxcb.so.1")
    except OSError:
        return
    xcb.xcb_connect.restype = ctypes.c_void_p
    connection = ctypes.c_void_p(xcb.xcb_connect(None, None))
    reached = xcb.xcb_connection_has_error(connection) == 0
    xcb.xcb_disconnect(connection)
    if not reached:
        raise UserError(f"The screen {name} cannot be reached.", hint)


def _tell_without_window(kind: str, report: Path | None) -> None:
    sys.stderr.write(f"The window could not be opened ({kind}). {report or ''}\n")


def run(path: str | None) -> int:
    """Open the window on a shot, a clip or nothing; returns the exit status."""
    from . import errors

    errors.catch_faults(_tell_without_window)
    check_display()
    # the program's own name for the desktop, and its fonts without asking the system for substitutes
    os.environ.setdefault("QT_LOGGING_RULES", "qt.qpa.*=false")
    apart.begin()  # beside what is imported now
    from PyQt6.QtCore import QTimer
    from PyQt6.QtWidgets import QApplication

    from . import preferences, theme
    from .jobs import Collector
    from .session import Session
    from .window import Window

    app = QApplication(sys.argv[:1])
    app.setApplicationName("Bright Lodestar")
    app.setDesktopFileName("bright-lodestar")
    errors.log_to_file()
    # before there is a window: to dress one anew takes half of a second
    theme.set_brightness(preferences.choice_of("look/brightness"))
    theme.apply(app)
    session = Session()
    Collector(session)
    window = Window(session)
    errors.catch_faults(errors.FaultTeller(session).happened.emit)
    window.show()

    def begin() -> None:
        if session.files.swaps is None:
            session.tell("Unsaved work cannot be kept: the folder for it cannot be written.", "Save often.", "doubtful")
        session.files.offer_left()
        if path:
            window.shot.open_path(path)

    QTimer.singleShot(0, begin)
    signal.signal(signal.SIGINT, lambda *_: window.close())

    def keep(*_: object) -> None:
        """The work is on the disk before the program goes, as it is told to, or the desktop's session ends."""
        session.files.autosave()
        session.files.finish_autosave()

    for number in (signal.SIGTERM, signal.SIGHUP):
        signal.signal(number, lambda *_: (keep(), os._exit(0)))
    app.commitDataRequest.connect(keep)
    beat = QTimer(interval=200)  # lets Python see Ctrl+C while Qt runs
    beat.timeout.connect(lambda: None)
    beat.start()
    return app.exec()
