"""Starts the window."""

import os
import signal
import sys


def run(path: str | None) -> int:
    """Open the window on a shot, a clip or nothing; returns the exit status."""
    from . import errors

    faults: list[str] = []
    errors.catch_faults(faults.append)
    # the program's own name for the desktop, and its fonts without asking the system for substitutes
    os.environ.setdefault("QT_LOGGING_RULES", "qt.qpa.*=false")
    from PyQt6.QtCore import QTimer
    from PyQt6.QtWidgets import QApplication

    from . import theme
    from .jobs import Collector
    from .session import Session
    from .shot_files import DEMO
    from .window import Window

    app = QApplication(sys.argv[:1])
    app.setApplicationName("Bright Lodestar")
    app.setDesktopFileName("bright-lodestar")
    errors.log_to_file()
    theme.apply(app)
    session = Session()
    Collector(session)
    window = Window(session)
    errors.catch_faults(
        lambda kind: session.tell(
            f"Something went wrong in the program itself ({kind}).", "Your work is as it was before this step; the log has the details.", "bad"
        )
    )
    window.show()
    if path == str(DEMO):
        QTimer.singleShot(0, window.shot.open_demo)
    elif path:
        QTimer.singleShot(0, lambda: window.shot.open_path(path))
    else:
        QTimer.singleShot(0, session.files.offer_untitled)
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
