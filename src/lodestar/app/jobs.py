"""Long work beside the interface: one job at a time, polled for progress, its end told once on the interface thread."""

import gc
import logging
import sys
import time
from collections.abc import Callable
from typing import Any

from PyQt6.QtCore import QObject, QRunnable, QThreadPool, QTimer, pyqtSignal

from lodestar.core.basics.apart import checked
from lodestar.core.basics.errors import Cancelled, UserError
from lodestar.core.basics.job import Job

POLL_MS = 60
log = logging.getLogger(__name__)


class Collector(QObject):
    """Python's cycle collector, on the interface thread only: run by a worker it could delete a window there, which Qt forbids."""

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        gc.disable()
        gc.freeze()  # what the libraries brought stays for good; to look through it took 110 of the 160 ms of a whole collection (measured)
        self._count, self._modules = 0, len(sys.modules)
        timer = QTimer(self, interval=1000)
        timer.timeout.connect(self._collect)
        timer.start()

    def _collect(self) -> None:
        # the old generation takes longest; once a minute is enough for it
        self._count += 1
        gc.collect(2 if self._count % 60 == 0 else 1)
        if self._count % 60 == 0 and len(sys.modules) > self._modules:  # libraries that came with the first work: they stay for good too
            self._modules = len(sys.modules)
            gc.freeze()


class _Ends(QObject):
    done = pyqtSignal(object)
    failed = pyqtSignal(object)
    cancelled = pyqtSignal()


class _Run(QRunnable):
    def __init__(self, function: Callable[[Job], Any], job: Job, ends: _Ends) -> None:
        super().__init__()
        self.function, self.job, self.ends = function, job, ends

    def run(self) -> None:
        # let go of here: the pool drops this at its leisure on this thread, and what the function holds (a window) must not go with it
        function, ends = self.function, self.ends
        del self.function, self.ends
        try:
            with checked(self.job.check):
                result = function(self.job)
        except Cancelled:
            ends.cancelled.emit()
        except UserError as error:
            ends.failed.emit(error)
        except Exception as error:
            log.exception("a job failed")
            ends.failed.emit(
                UserError(
                    f"This step stopped on a fault of the program ({type(error).__name__}).",
                    "The shot is as it was before; the message log has the details.",
                )
            )
        else:
            ends.done.emit(result)


class Jobs(QObject):
    """Runs one job at a time. `changed` is told when one begins or ends, `moved` while it runs."""

    changed, moved = pyqtSignal(), pyqtSignal()
    ended = pyqtSignal(str, str, float)  # name, how it ended ('done', 'failed', 'cancelled'), and the seconds that it took

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._began = 0.0
        self.name = ""
        self.step = ""
        self.job: Job | None = None
        self._pool = QThreadPool(self)
        self._pool.setMaxThreadCount(1)
        self._timer = QTimer(self, interval=POLL_MS)
        self._timer.timeout.connect(self.moved)
        self._ends: _Ends | None = None

    @property
    def busy(self) -> bool:
        return self.job is not None

    def start(
        self,
        name: str,
        step: str,
        function: Callable[[Job], Any],
        done: Callable[[Any], object],
        failed: Callable[[UserError], None],
        cancelled: Callable[[], None] = lambda: None,
    ) -> bool:
        """Begin `function(job)`; exactly one of the three ends is called later. False when another job is running."""
        if self.busy:
            return False
        self.name, self.step, self.job = name, step, Job()
        self._ends = _Ends(self)
        self._began = time.monotonic()
        self._ends.done.connect(lambda result: self._end("done", done, result))
        self._ends.failed.connect(lambda error: self._end("failed", failed, error))
        self._ends.cancelled.connect(lambda: self._end("cancelled", cancelled))
        self._timer.start()
        self._pool.start(_Run(function, self.job, self._ends))
        self.changed.emit()
        return True

    def _end(self, how: str, then: Callable, *args: object) -> None:
        name = self.name
        self.job, self.name, self.step = None, "", ""
        self._timer.stop()
        if self._ends is not None:
            self._ends.deleteLater()
        self._ends = None
        then(*args)
        self.changed.emit()
        self.ended.emit(name, how, time.monotonic() - self._began)

    def cancel(self) -> None:
        if self.job is not None:
            self.job.cancel()

    def close(self) -> None:
        self.cancel()
        self._pool.waitForDone()
