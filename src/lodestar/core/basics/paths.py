"""Writing files: never over what they are made from, and whole or not at all."""

import contextlib
import errno
import os
import re
import stat
import zlib
from collections.abc import Iterable, Iterator
from pathlib import Path

from .errors import OutputError, UserError, writing_problem


def is_same_file(a: Path, b: Path) -> bool:
    """Whether two paths are one file, through links and other spellings too; files that are not there yet are told by their names."""
    try:
        return os.path.samefile(a, b)
    except OSError:
        return os.path.realpath(a) == os.path.realpath(b)


def refuse_sources(outputs: Iterable[Path], sources: Iterable[Path]) -> None:
    """Raises OutputError where an output is one of the files that it would be made from."""
    names: dict[str, Path] = {os.path.realpath(source): source for source in sources}
    for output in outputs:
        # by name first: a sequence has thousands; by the file itself where it has several names
        found = names.get(os.path.realpath(output))
        if found is None and os.path.lexists(output):
            found = next((source for source in names.values() if is_same_file(output, source)), None)
        if found is not None:
            proposed = output.with_name(f"{output.stem}-titled{output.suffix}").name
            raise OutputError(f"{output.name} is what this is made from, and would be lost.", f"Choose another name, for example {proposed}.")


def bytes_of(path: Path, most: int) -> bytes:
    """All that is in a file. Raises UserError where it is none that can be read: missing, a folder, a pipe that would be waited for, or
    larger than `most` bytes."""
    try:
        found = path.stat()
        if not stat.S_ISREG(found.st_mode):
            raise UserError(f"{path.name} is a folder, a device or a pipe, not a file.", "Choose a file.")
        if found.st_size > most:
            raise UserError(f"{path.name} has {found.st_size / 1e6:.0f} MB; {most / 1e6:.0f} MB are the most.", "Choose a smaller one.")
        return path.read_bytes()
    except (OSError, ValueError) as error:
        reason = (getattr(error, "strerror", "") or "its name cannot be used").lower()
        raise UserError(f"{path.name} cannot be read: {reason}.", "Look whether it is still there, and whether you may read it.") from error


def text_of(path: Path, most: int) -> str:
    """What is written in a file. Raises UserError as `bytes_of`, and where it is no text (UTF-8)."""
    try:
        return bytes_of(path, most).decode("utf-8")
    except UnicodeDecodeError as error:
        raise UserError(f"{path.name} holds no text.", "Choose another file.") from error


# files that are being written ------------------------------------------------------------------------------------------------------

_PART = re.compile(r"\..*\.(\d+)-(\d+)\.part(\.\w+)?")
KEPT_OF_NAME = 40  # bytes of a file's name in that of its part, which may not grow longer than a name can be


def part_of(path: Path) -> Path:
    """Where a file is written before it takes its name: beside it, hidden, marked with the process that writes it."""
    name = os.fsencode(path.name)
    stem = os.fsencode(path.stem)[:KEPT_OF_NAME].decode(errors="ignore")
    return path.with_name(f".{stem}.{zlib.crc32(name):08x}.{os.getpid()}-{_born(os.getpid())}.part{path.suffix[:8]}")


def clear_parts(folder: Path) -> int:
    """Remove what processes that are gone left half written in a folder; how many files. What cannot be removed stays."""
    gone = 0
    with contextlib.suppress(OSError):
        for name in os.listdir(folder):
            match = _PART.fullmatch(name)
            if match and _born(int(match.group(1))) != int(match.group(2)):
                with contextlib.suppress(OSError):
                    (folder / name).unlink()
                    gone += 1
    return gone


def _born(pid: int) -> int:
    """When a process began, in ticks since the machine started; -1 where there is none. A number may be given out again, with another time.

    Source: proc_pid_stat(5), field 22, counted after the name in brackets, which may hold anything.
    """
    try:
        return int(Path(f"/proc/{pid}/stat").read_bytes().rpartition(b")")[2].split()[19])
    except (OSError, IndexError, ValueError):
        return -1


@contextlib.contextmanager
def replacing(path: Path) -> Iterator[Path]:
    """The place to write a file to, which takes its name once it is whole and on the disk; a link is followed, and the file keeps
    its mode, and its owner where the system lets it.

    Raises OutputError with the reason when it cannot be written; the old file is then untouched, and nothing is left beside it.
    """
    path = _file_at(path)
    part = part_of(path)
    try:
        clear_parts(path.parent)
        yield part
        with open(part, "rb") as file:
            os.fsync(file.fileno())
        if path.exists():
            old = path.stat()
            os.chmod(part, stat.S_IMODE(old.st_mode))
            with contextlib.suppress(OSError):
                os.chown(part, old.st_uid, old.st_gid)
        os.replace(part, path)
    except OSError as error:
        raise writing_problem(path, error) from error
    finally:
        with contextlib.suppress(OSError):
            part.unlink(missing_ok=True)


def check_writable(path: Path) -> None:
    """Raises OutputError where a file of this name cannot be written: looked at before minutes of work, not after them."""
    path = _file_at(path)
    part = part_of(path)
    try:
        os.close(os.open(part, os.O_CREAT | os.O_WRONLY, 0o666))
        part.unlink()
        if len(os.fsencode(path.name)) > os.pathconf(path.parent, "PC_NAME_MAX"):
            raise OSError(errno.ENAMETOOLONG, "")
    except OSError as error:
        raise writing_problem(path, error) from error


def _file_at(path: Path) -> Path:
    """The file that a path leads to, there already or not. Raises OutputError where something else is in its place: a folder, a device."""
    path = Path(os.path.realpath(path))
    try:
        mode = path.stat().st_mode
    except FileNotFoundError:
        return path
    except OSError as error:
        raise writing_problem(path, error) from error
    if stat.S_ISDIR(mode):
        raise writing_problem(path, IsADirectoryError(errno.EISDIR, ""))
    if not stat.S_ISREG(mode):
        raise OutputError(f"{path} could not be written: it is a device or a pipe, not a file.", "Choose the name of a file.")
    return path
