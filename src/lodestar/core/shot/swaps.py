"""Swaps: unsaved work, kept beside the saved files until it is saved or thrown away.

Each open window has one, in a folder of the user's: `ID.json` says which shot it is of, and is locked while the window lives; `ID.lode` is
the work. The system lets go of the lock when a process ends, however it ends: a swap without a lock was left behind.
"""

import contextlib
import fcntl
import os
import time
import uuid
from pathlib import Path
from typing import BinaryIO

import msgspec

from ..basics.paths import clear_parts, is_same_file
from . import files
from .document import Shot

MOST_SWAP_NOTE = 100_000  # bytes


class SwapNote(msgspec.Struct, frozen=True):
    """path: of the shot's file, empty while it is untitled; name: of the shot; pid: of the process, for a person who looks."""

    path: str = ""
    name: str = ""
    pid: int = 0


class Left(msgspec.Struct, frozen=True):
    """Work that was left behind. at: when it was kept, in seconds of the epoch."""

    file: Path
    note: SwapNote
    at: float

    @property
    def path(self) -> Path | None:
        return Path(self.note.path) if self.note.path else None

    @property
    def is_older_than_file(self) -> bool:
        """Whether its shot was saved after it."""
        try:
            return self.path is not None and self.path.stat().st_mtime > self.at
        except OSError:
            return False

    def shot(self) -> Shot:
        """The work itself. Raises ShotFileError."""
        return files.read(self.file)

    def throw_away(self) -> None:
        """Not where a window has taken it up meanwhile."""
        with _locked(self.file.with_suffix(".json")) as own:
            if own:
                self.file.unlink(missing_ok=True)
                self.file.with_suffix(".json").unlink(missing_ok=True)


class Swap:
    """The swap of one window. folder: where swaps are kept, or None where nothing can be, as it turns out to be on a full disk: then
    nothing is."""

    def __init__(self, folder: Path | None) -> None:
        self.folder = folder
        self._file: BinaryIO | None = None
        self._name = uuid.uuid4().hex
        if folder is not None:
            try:
                folder.mkdir(parents=True, exist_ok=True)
                self._file = self._own_file(folder / f"{self._name}.json")
            except OSError:  # a full disk, or one that knows no locks: the program works without
                self.folder = None
                return
            clear_parts(folder)
            self.claim(None, "")

    @staticmethod
    def _own_file(path: Path) -> BinaryIO:
        """A file that is locked, and still there: who looks for what was left behind may have cleared it away before it was locked."""
        while True:
            file = open(path, "w+b")  # noqa: SIM115  (open and locked as long as the window lives)
            try:
                fcntl.flock(file, fcntl.LOCK_EX)
            except OSError:
                file.close()
                raise
            with contextlib.suppress(OSError):
                if os.fstat(file.fileno()).st_ino == path.stat().st_ino:
                    return file
            file.close()

    @property
    def path(self) -> Path | None:
        return self.folder / f"{self._name}.lode" if self.folder is not None else None

    def claim(self, path: Path | None, name: str) -> None:
        """Say which shot the window works on."""
        if self._file is None:
            return
        place = str(path.absolute()) if path is not None else ""
        plain = lambda text: text.encode(errors="replace").decode()
        note = SwapNote(plain(place), plain(name), os.getpid())
        with contextlib.suppress(OSError):
            self._file.seek(0)
            self._file.truncate()
            self._file.write(msgspec.json.encode(note))
            self._file.flush()

    def is_open_elsewhere(self, path: Path) -> bool:
        """Whether another window, of this process or another, works on the shot in this file."""
        for note in self.folder.glob("*.json") if self.folder is not None else ():
            said = _note_in(note)
            if note.stem != self._name and said.path and is_same_file(Path(said.path), path):
                with _locked(note) as own:
                    if not own:
                        return True
        return False

    def write(self, shot: Shot) -> None:
        """Keep unsaved work. Raises OutputError with the reason."""
        if self.path is not None:
            files.write(shot, self.path)

    def drop(self) -> None:
        """The work is saved, or not wanted."""
        if self.path is not None:
            self.path.unlink(missing_ok=True)

    def close(self) -> None:
        """The window goes. Work that was not dropped is offered at the next start."""
        if self._file is None or self.folder is None:
            return
        if self.path is not None and not self.path.exists():
            (self.folder / f"{self._name}.json").unlink(missing_ok=True)
        self._file.close()
        self._file = None


def left_behind(folder: Path | None) -> list[Left]:
    """What no window works on any more, the newest first. What holds no work is cleared away."""
    found = []
    for note in folder.glob("*.json") if folder is not None and folder.is_dir() else ():
        with _locked(note) as own:
            if not own:
                continue
            work = note.with_suffix(".lode")
            try:
                at = work.stat().st_mtime
            except OSError:
                note.unlink(missing_ok=True)
                continue
            found.append(Left(work, _note_in(note), at))
    return sorted(found, key=lambda left: -left.at)


def _note_in(path: Path) -> SwapNote:
    try:
        return msgspec.json.decode(path.read_bytes()[:MOST_SWAP_NOTE], type=SwapNote)
    except (OSError, msgspec.MsgspecError):
        return SwapNote()


@contextlib.contextmanager
def _locked(note: Path):
    """Whether the lock of a swap could be had, which is held meanwhile: nobody else has it then."""
    try:
        file = open(note, "rb")  # noqa: SIM115  (closed below)
    except OSError:
        yield False
        return
    try:
        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            own = False
        else:
            own = note.exists()
        yield own
    finally:
        file.close()


def age_in_words(at: float) -> str:
    """When work was kept, as one says it: with the day where it was not today."""
    then, now = time.localtime(at), time.localtime()
    return time.strftime("%H:%M" if then[:3] == now[:3] else "%-d %B, %H:%M", then)
