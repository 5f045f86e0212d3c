"""Clips and pictures are read by child processes; what a decoder died of or did not come back from is not tried again while the file stays as it is.

Decoders are large programs in C that read what anybody made. Measured: a child is there in 5 to 10 ms, and a frame of 720p comes 2 ms later than it would.
"""

import os
import threading
from pathlib import Path
from typing import Any

from ..basics.apart import Apart, Ended
from ..basics.errors import PlateError, UserError

# of memory for a decoder, whose threads keep several large frames each; half of what there is, since a file may ask for any amount
MOST_BYTES = max(4 * 2**30, os.sysconf("SC_PHYS_PAGES") * os.sysconf("SC_PAGE_SIZE") // 2)

_ended: dict[tuple, PlateError] = {}
_lock = threading.Lock()


class Reader:
    """A child process with what `target` ('module:name') makes of `data`, which reads files; begun when it is asked, and again where it was ended. It
    belongs to one thread."""

    def __init__(self, target: str, data: bytes = b"") -> None:
        self.target, self.data = target, data
        self._child: Apart | None = None

    def ask(self, path: Path, noun: str, what: str, part: int = 0, /, **with_: Any) -> dict[str, Any]:
        """What its method `what` makes of a part of a file: of frame `part`. noun: that in a sentence. Raises PlateError where it cannot, and at once where
        it ended badly before."""
        name = (*_name(path), what, part)
        with _lock:
            known = _ended.get(name)
        if known is not None:
            raise PlateError(known.what, known.hint)
        try:
            if self._child is None or self._child.is_gone:
                self._child = Apart(self.target, self.data, noun, MOST_BYTES)
            self._child.noun = noun
            return self._child.ask(what, **with_)
        except Ended as error:
            told = PlateError(error.what, "The decoder cannot be trusted with it. Convert it with another program, and open that.")
            with _lock:
                _ended[name] = told
            raise told from error
        except UserError as error:
            raise PlateError(error.what, error.hint) from error

    def close(self) -> None:
        if self._child is not None:
            self._child.close()
            self._child = None

    def __enter__(self) -> "Reader":
        return self

    def __exit__(self, *_: object) -> None:
        self.close()


def path_bytes(path: Path) -> bytes:
    """A path for a child process."""
    return str(path).encode("utf-8", "surrogateescape")


def _name(path: Path) -> tuple:
    """A file as it is now."""
    try:
        stat = path.stat()
    except OSError:
        return (str(path),)
    return str(path), stat.st_mtime_ns, stat.st_size
