"""Media that a decoder may die of or never come back from: each file is tried first in a child process, which can be ended.

Decoders are large programs in C that read what anybody made. A trial costs some 0.3 s for each file, once; decoding all frames in a
child would cost a copy of every frame and a second decoder's memory.
"""

import threading
from collections.abc import Callable
from pathlib import Path

import av

from ..basics.apart import apart
from ..basics.errors import PlateError, UserError
from .stills import SEQUENCE_SUFFIXES, file_url, read_picture

MOST_BYTES = 4 * 2**30  # a decoder's threads keep several large frames each
ATTEMPT = "lodestar.core.media.trial:attempt"
SHARES = (0.0, 0.5, 0.98)  # of a movie's length: where its pictures are tried

_tried: dict[tuple, PlateError | None] = {}
_lock = threading.Lock()


def _name(path: Path) -> tuple:
    """A file as it is now."""
    try:
        stat = path.stat()
    except OSError:
        return (str(path),)
    return str(path), stat.st_mtime_ns, stat.st_size


def try_out(path: str | Path, check: Callable[[], object] = lambda: None) -> None:
    """Decode a little of a file in a child process, once for each file as it is now; nothing where there is none.

    check is called every 20 ms and may raise, which ends the trial. Raises PlateError where the decoder dies or does not come back; what
    is merely damaged is told by whoever reads it.
    """
    path = Path(path)
    name = _name(path)
    if len(name) == 1 or not path.is_file():
        return
    with _lock:
        known = name in _tried
    if not known:
        error = None
        try:
            apart(ATTEMPT, str(path).encode("utf-8", "surrogateescape"), f"The file {path.name}", check, MOST_BYTES)
        except UserError as ended:
            error = PlateError(ended.what, "The decoder cannot be trusted with it. Convert it with another program, and open that.")
        with _lock:
            _tried[name] = error
    refuse_known(path)


def refuse_known(path: str | Path) -> None:
    """Raises PlateError for a file, as it is now, whose trial ended badly."""
    if _tried:
        error = _tried.get(_name(Path(path)))
        if error is not None:
            raise PlateError(error.what, error.hint)


def attempt(data: bytes) -> dict:
    """In the child: a picture, or pictures of a movie from its beginning, middle and end. What cannot be read is no matter here."""
    path = Path(data.decode("utf-8", "surrogateescape"))
    try:
        if path.suffix.lower() in SEQUENCE_SUFFIXES:
            read_picture(path)
            return {}
        with av.open(file_url(path)) as container:
            stream = container.streams.video[0]
            for share in SHARES:
                if share and container.duration:
                    container.seek(int(share * container.duration))
                next(container.decode(stream)).to_ndarray(format="rgb24")
    except (UserError, av.FFmpegError, StopIteration, IndexError, ValueError, OSError, MemoryError):
        pass
    return {}
