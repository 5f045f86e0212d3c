"""A shot in a file: a zip of `shot.json` (versioned) and its arrays, one member each. Nothing in it is ever executed.

Written under another name beside, flushed to disk and renamed, so that the old file is whole until the new one is.
"""

import io
import math
import os
import threading
import tokenize
import weakref
import zipfile
import zlib
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any, BinaryIO, NamedTuple

import msgspec
import numpy as np

from ..basics.errors import PlateError, ShotFileError
from ..basics.paths import replacing
from ..basics.rows import paths_of
from ..media.plates import probe
from ..shape.face_files import known_here
from ..track.tracks import frozen
from .checked import checked, part_of_place
from .document import VERSION, Basis, Shot

MOST_BYTES = 2**30  # that a file may unpack to
# what a cut or damaged file makes the readers of zip, JSON and arrays raise
READ_ERRORS = (
    zipfile.BadZipFile,
    zlib.error,
    msgspec.MsgspecError,
    KeyError,
    ValueError,
    TypeError,
    AttributeError,
    EOFError,
    NotImplementedError,
    RecursionError,
    MemoryError,
    RuntimeError,
    OSError,
    SyntaxError,
    tokenize.TokenError,
)

# from version n to n + 1: {n: function(tree) -> tree}, each with its reason in its docstring


def _titles_are_objects(tree: dict) -> dict:
    """Version 2 has other things than titles, all in one list, so that they can carry one another; and any number of distances."""
    tree["objects"] = tree.pop("titles", [])
    ground = tree.get("ground", {})
    distance = ground.pop("distance", None)
    if distance is not None:
        ground["spans"] = [{"a": distance[0], "b": distance[1], "metres": distance[2]}]
    return tree


def _lamps_and_finish_are_lists(tree: dict) -> dict:
    """Version 3 has any number of lamps and of finish entries, in order; what was said of the shadow and the shutter has a place
    of its own, and outlines say what they are, since mattes have other sources too. A clip has all of its colour, not its transfer; words
    of the field stand for our own."""
    light = tree.pop("light", {})
    sun = {"type": "sun", **{name: light[name] for name in ("bearing", "height", "strength", "softness", "colour", "on") if name in light}}
    sky = {"type": "sky", **{new: light[old] for old, new in (("sky", "strength"), ("sky_colour", "colour")) if old in light}}
    tree["lamps"] = [sun, sky]
    tree["shadow"] = {**{name: light[name] for name in ("density", "tint") if name in light}, "lines": light.get("shadows", [])}
    tree["exposure"] = tree.pop("finish", {})
    plate = tree.get("plate")
    if plate:
        # earlier versions knew the transfer alone, and left pictures of a clip on their side as they lay
        transfer, sequence = plate.pop("transfer", "rec709"), plate.get("kind") == "sequence"
        matrix = "rgb" if sequence else "bt709" if plate["height"] > 576 else "bt601"
        plate["colour"] = {"transfer": transfer, "matrix": matrix, "full_range": sequence}
        plate.pop("portrait_turn_deg", None)
    for part, old, new in (("solving", "bend", "distortion"), ("solve", "wander", "covariance_sample")):
        if old in (tree.get(part) or {}):
            tree[part][new] = tree[part].pop(old)
    for outline in (*tree.get("mattes", []), *tree.get("regions", [])):
        outline["type"] = "outline"
    return tree


def _ground_was_level(tree: dict) -> dict:
    """Version 4 finds uneven ground by itself; shots of before were placed and lit on the level one, and go on so."""
    tree.setdefault("ground", {}).setdefault("uneven", False)
    return tree


MIGRATIONS: dict[int, Any] = {1: _titles_are_objects, 2: _lamps_and_finish_are_lists, 3: _ground_was_level}


def _tree_of(shot: Shot, folder: Path) -> tuple[bytes, list[np.ndarray]]:
    """shot.json of a file that lies in `folder`, to which paths are made relative where they can be; and the arrays that it names."""
    shot = _with_paths(shot, lambda path: _relative(path, folder))
    arrays: list[np.ndarray] = []

    def hook(value: object) -> object:
        if isinstance(value, Basis):
            return None
        if isinstance(value, np.ndarray):
            arrays.append(value)
            return {"array": _member(len(arrays) - 1)}
        if isinstance(value, np.generic):  # a stray number must never keep a shot from being saved
            return value.item()
        raise TypeError(f"{type(value)} cannot be saved")

    parts = msgspec.to_builtins(shot, enc_hook=hook)
    del parts["basis"]
    return msgspec.json.format(msgspec.json.encode(parts), indent=1), arrays


def _member(number: int) -> str:
    return f"arrays/a{number:03}.npy"


def _write_zip(shot: Shot, folder: Path, out: BinaryIO) -> list[tuple[np.ndarray, zipfile.ZipInfo]]:
    """Write a shot; returns its arrays, with where each is in the file."""
    tree, arrays = _tree_of(shot, folder)
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as archive:
        archive.writestr("shot.json", tree)
        for number, array in enumerate(arrays):
            if not _copy_stored(archive, _member(number), array):
                with archive.open(_member(number), "w", force_zip64=array.nbytes > 2**30) as member:
                    np.lib.format.write_array(member, np.asarray(array), allow_pickle=False)
        return [(array, archive.getinfo(_member(number))) for number, array in enumerate(arrays)]


def pack(shot: Shot, folder: Path) -> bytes:
    """The bytes of a .lode file that lies in `folder`."""
    out = io.BytesIO()
    _write_zip(shot, folder, out)
    return out.getvalue()


# arrays that are in a file already ------------------------------------------------------------------------------------------------


class _Stored(NamedTuple):
    """Where an array, which nothing ever changes, lies packed. stamp: of the file, by which it is known to be the same still."""

    array: weakref.ref
    path: Path
    stamp: tuple[int, int, int]
    member: zipfile.ZipInfo


_stored: dict[int, _Stored] = {}
_stored_lock = threading.Lock()


def _stamp(path: Path) -> tuple[int, int, int]:
    found = path.stat()
    return found.st_ino, found.st_mtime_ns, found.st_size


def _remember(path: Path, members: Sequence[tuple[np.ndarray, zipfile.ZipInfo]]) -> None:
    """The next file copies what these arrays were packed to."""
    stamp = _stamp(path)
    with _stored_lock:
        for key in [key for key, old in _stored.items() if old.array() is None]:
            del _stored[key]
        for array, member in members:
            if not array.flags.writeable:
                _stored[id(array)] = _Stored(weakref.ref(array), path, stamp, member)


def _copy_stored(archive: zipfile.ZipFile, name: str, array: np.ndarray) -> bool:
    """Copy the packed bytes of an array from the file where they are already; False where that is not so any more."""
    with _stored_lock:
        old = _stored.get(id(array))
    if old is None or old.array() is not array or archive.fp is None:
        return False
    try:
        if _stamp(old.path) != old.stamp:
            return False
        with open(old.path, "rb") as source:
            # APPNOTE.TXT 4.3.7: the local header has 30 bytes, then a name and an extra field of the lengths at 26 and 28
            source.seek(old.member.header_offset + 26)
            lengths = source.read(4)
            source.seek(int.from_bytes(lengths[:2], "little") + int.from_bytes(lengths[2:], "little"), os.SEEK_CUR)
            data = source.read(old.member.compress_size)
    except OSError:
        return False
    if len(data) != old.member.compress_size:
        return False
    new = zipfile.ZipInfo(name, old.member.date_time)
    new.compress_type, new.CRC = old.member.compress_type, old.member.CRC
    new.compress_size, new.file_size, new.header_offset = old.member.compress_size, old.member.file_size, archive.fp.tell()
    archive.fp.write(new.FileHeader())
    archive.fp.write(data)
    # zipfile has no public way to take in packed bytes; the directory at the end is written from these
    archive.filelist.append(new)
    archive.NameToInfo[name] = new
    archive.start_dir = archive.fp.tell()
    return True


def _with_paths(shot: Shot, change: Callable[[str], str]) -> Shot:
    """The shot with the paths of its clip, and of the media that its objects use, changed."""
    if shot.plate is not None:
        shot = msgspec.structs.replace(shot, plate=msgspec.structs.replace(shot.plate, path=change(shot.plate.path)))
    objects = tuple(_with_own_paths(o, change) for o in shot.objects)
    mattes = tuple(_with_own_paths(m, change) for m in shot.mattes)
    singles = {name: _with_own_paths(getattr(shot, name), change) for name in ("backdrop", "surroundings")}
    return msgspec.structs.replace(shot, objects=objects, mattes=mattes, **singles)


def media_of(shot: Shot) -> tuple[str, ...]:
    """The paths of all media that a shot uses: its clip, pictures and movies."""
    found: dict[str, None] = {}
    _with_paths(shot, lambda path: (path, found.setdefault(path))[0])
    return tuple(found)


def _with_own_paths(item: Any, change: Callable[[str], str]) -> Any:
    paths = {name: change(path) for name in paths_of(type(item)) if (path := getattr(item, name))}
    return msgspec.structs.replace(item, **paths) if paths else item


def _relative(path: str, folder: Path) -> str:
    try:
        return os.path.relpath(path, folder) if Path(path).is_absolute() else path
    except ValueError:
        return path


def unpack(data: bytes, name: str, folder: Path) -> Shot:
    """The shot in the bytes of a .lode file. Raises ShotFileError when they are cut, damaged, nonsense or of a newer version."""
    return _unpacked(io.BytesIO(data), name, folder)[0]


def _unpacked(file: BinaryIO, name: str, folder: Path, without: Sequence[str] = ()) -> tuple[Shot, list[tuple[np.ndarray, zipfile.ZipInfo]]]:
    """The shot in an open .lode file, less the parts that are left out, and its arrays with where they are in there."""
    damaged = f"{name} is cut or damaged and cannot be opened."
    hint = "The file was left as it is. Open an earlier copy, or the autosave that is offered at the start."
    try:
        with zipfile.ZipFile(file) as archive:
            if sum(member.file_size for member in archive.infolist()) > MOST_BYTES:
                raise ShotFileError(f"{name} would unpack to more than {MOST_BYTES / 2**30:.0f} GB, which no shot needs.", hint)
            tree = msgspec.json.decode(archive.read("shot.json"))
            version = tree["version"]
            if not isinstance(version, int) or version < 1:
                raise KeyError("version")
            if version > VERSION:
                raise ShotFileError(
                    f"{name} was saved by a newer Bright Lodestar (file version {version}, this one reads up to {VERSION}).",
                    "Update the program to open it; the file was left as it is.",
                )
            arrays, members = _arrays_in(archive)
    except READ_ERRORS as error:
        raise ShotFileError(damaged, hint) from error

    def hook(kind: type, value: Any) -> object:
        if kind is np.ndarray:
            return arrays[value["array"]]
        raise TypeError(kind)

    try:
        for old in range(version, VERSION):
            tree = MIGRATIONS[old](tree) | {"version": old + 1}
        for part in without:
            _leave_out(tree, part)
        shot = msgspec.convert(tree, Shot, dec_hook=hook)
    except READ_ERRORS as error:
        told = ShotFileError(f"{damaged} ({error})" if isinstance(error, msgspec.ValidationError) else damaged, hint)
        told.part = part_of_place(str(error).rpartition("`$.")[2])
        raise told from error
    shot = _with_paths(checked(shot, name), lambda path: os.path.normpath(folder / path))
    known_here(shot.faces)
    return (_with_own_tags(shot) if version < 3 else shot), members


def _leave_out(tree: dict, part: str) -> None:
    """Take a part out of a document: 'solve', or one thing of a list, 'objects[2]'. What stands on tracks goes with them."""
    name, _, index = part.rstrip("]").partition("[")
    if index:
        del tree[name][int(index)]
    else:
        tree.pop(name, None)
    if name == "tracks":
        tree.pop("solve", None)


def _arrays_in(archive: zipfile.ZipFile) -> tuple[dict[str, np.ndarray], list[tuple[np.ndarray, zipfile.ZipInfo]]]:
    """All arrays by their names, and those that are members of their own, with where they are. Nothing is ever unpickled."""
    arrays: dict[str, np.ndarray] = {}
    members = []
    for member in archive.infolist():
        if member.filename.startswith("arrays/"):
            arrays[member.filename] = _array_of(archive.read(member))
            members.append((arrays[member.filename], member))
        elif member.filename == "arrays.npz":  # up to version 2 all were in one member
            with zipfile.ZipFile(io.BytesIO(archive.read(member))) as inner:
                if sum(one.file_size for one in inner.infolist()) > MOST_BYTES:
                    raise ValueError("arrays.npz is too large")
                arrays.update({one.filename.removesuffix(".npy"): _array_of(inner.read(one)) for one in inner.infolist()})
    return arrays, members


def _array_of(data: bytes) -> np.ndarray:
    """One array. Its header is held against its length first: it may ask for any amount of memory."""
    file = io.BytesIO(data)
    version = np.lib.format.read_magic(file)
    read = np.lib.format.read_array_header_1_0 if version == (1, 0) else np.lib.format.read_array_header_2_0
    shape, _, dtype = read(file)
    if dtype.hasobject or any(n < 0 for n in shape) or math.prod(shape) * dtype.itemsize != len(data) - file.tell():
        raise ValueError("an array's header does not fit its length")
    file.seek(0)
    return frozen(np.lib.format.read_array(file, allow_pickle=False))


def _with_own_tags(shot: Shot) -> Shot:
    """A shot of a version that did not keep what its clip says of matrix and range: it is read from the clip, as it was then."""
    if shot.plate is None or shot.plate.kind != "movie":
        return shot
    try:
        told = probe(shot.plate.path).colour
    except PlateError:  # a missing clip is asked for later
        return shot
    colour = msgspec.structs.replace(shot.plate.colour, matrix=told.matrix, full_range=told.full_range)
    return msgspec.structs.replace(shot, plate=msgspec.structs.replace(shot.plate, colour=colour))


def write(shot: Shot, path: str | Path) -> None:
    """Save. Raises OutputError with the reason when the place cannot be written; the old file is then untouched.

    Arrays that a file holds already are copied as they are packed there: an edit of a title packs no tracks anew. A link is
    followed, and the file keeps its mode; its owner too, where the system lets it.
    """
    path = Path(os.path.realpath(path))
    with replacing(path) as part, open(part, "w+b") as file:
        members = _write_zip(shot, path.parent, file)
    _remember(path, members)


def read(path: str | Path, without: Sequence[str] = ()) -> Shot:
    """Open a .lode file. The clip is not looked for here: a missing one is asked for later.

    without: parts to leave out, in the order in which they were refused: the `part` of the ShotFileError that is raised where
    something makes no sense.
    """
    path = Path(path).absolute()
    try:
        if path.exists() and not path.is_file():
            raise ShotFileError(f"{path.name} is a folder, a device or a pipe, not a shot.", "Choose a file that ends in .lode.")
        with open(path, "rb") as file:
            shot, members = _unpacked(file, path.name, path.parent, without)
        _remember(path, members)
    except (OSError, ValueError) as error:
        reason = (getattr(error, "strerror", "") or "unknown reason").lower()
        raise ShotFileError(f"{path.name} cannot be read: {reason}.", "Look whether it is still there, and whether you may read it.") from error
    return shot
