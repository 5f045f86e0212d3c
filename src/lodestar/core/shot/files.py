"""A shot in a file: a zip of `shot.json` (versioned) and `arrays.npz`. Nothing in it is ever executed.

Written under another name beside, flushed to disk and renamed, so that the old file is whole until the new one is.
"""

import contextlib
import io
import json
import os
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import msgspec
import numpy as np

from ..basics.errors import PlateError, ShotFileError, writing_problem
from ..basics.rows import paths_of
from ..media.plates import probe
from ..track.tracks import frozen
from .document import VERSION, Basis, Shot
from .objects import Object

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
    of its own, and outlines say what they are, since mattes have other sources too. A clip has all of its colour, not its transfer."""
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
    for outline in (*tree.get("mattes", []), *tree.get("regions", [])):
        outline["type"] = "outline"
    return tree


MIGRATIONS: dict[int, Any] = {1: _titles_are_objects, 2: _lamps_and_finish_are_lists}


def pack(shot: Shot, folder: Path) -> bytes:
    """The bytes of a .lode file that lies in `folder`, to which the clip's path is made relative where it can be."""
    shot = _with_paths(shot, lambda path: _relative(path, folder))
    arrays: dict[str, np.ndarray] = {}

    def hook(value: object) -> object:
        if isinstance(value, Basis):
            return None
        if isinstance(value, np.ndarray):
            name = f"a{len(arrays):03}"
            arrays[name] = value
            return {"array": name}
        if isinstance(value, np.generic):  # a stray number must never keep a shot from being saved
            return value.item()
        raise TypeError(f"{type(value)} cannot be saved")

    parts = msgspec.to_builtins(shot, enc_hook=hook)
    del parts["basis"]
    tree = msgspec.json.format(msgspec.json.encode(parts), indent=1)
    packed, out = io.BytesIO(), io.BytesIO()
    np.savez(packed, **arrays)  # type: ignore[arg-type]
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as archive:
        archive.writestr("shot.json", tree)
        archive.writestr("arrays.npz", packed.getvalue())
    return out.getvalue()


def _with_paths(shot: Shot, change: Callable[[str], str]) -> Shot:
    """The shot with the paths of its clip, and of the media that its objects use, changed."""
    if shot.plate is not None:
        shot = msgspec.structs.replace(shot, plate=msgspec.structs.replace(shot.plate, path=change(shot.plate.path)))
    return msgspec.structs.replace(shot, objects=tuple(_with_own_paths(o, change) for o in shot.objects))


def _with_own_paths(item: Object, change: Callable[[str], str]) -> Object:
    paths = {name: change(path) for name in paths_of(type(item)) if (path := getattr(item, name))}
    return msgspec.structs.replace(item, **paths) if paths else item


def _relative(path: str, folder: Path) -> str:
    try:
        return os.path.relpath(path, folder) if Path(path).is_absolute() else path
    except ValueError:
        return path


def unpack(data: bytes, name: str, folder: Path) -> Shot:
    """The shot in the bytes of a .lode file. Raises ShotFileError when they are cut, damaged or of a newer version."""
    damaged = f"{name} is cut or damaged and cannot be opened."
    hint = "The file was left as it is. Open an earlier copy, or the autosave that is offered at the start."
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            text, packed = archive.read("shot.json"), archive.read("arrays.npz")
        tree = json.loads(text)
        version = tree["version"]
        if not isinstance(version, int):
            raise KeyError("version")
    except (zipfile.BadZipFile, KeyError, ValueError, TypeError, EOFError, OSError, NotImplementedError) as error:
        raise ShotFileError(damaged, hint) from error
    if version > VERSION:
        raise ShotFileError(f"{name} was saved by a newer Bright Lodestar (file version {version}, this one reads up to {VERSION}).",
                            "Update the program to open it; the file was left as it is.")  # fmt: skip
    for old in range(version, VERSION):
        tree = MIGRATIONS[old](tree) | {"version": old + 1}
    try:
        with np.load(io.BytesIO(packed), allow_pickle=False) as stored:
            arrays = {key: frozen(stored[key]) for key in stored.files}

        def hook(kind: type, value: Any) -> object:
            if kind is np.ndarray:
                return arrays[value["array"]]
            raise TypeError(kind)

        shot = msgspec.convert(tree, Shot, dec_hook=hook)
    except (msgspec.ValidationError, KeyError, ValueError, TypeError, zipfile.BadZipFile, EOFError, OSError) as error:
        raise ShotFileError(f"{damaged} ({error})" if isinstance(error, msgspec.ValidationError) else damaged, hint) from error
    shot = _with_paths(shot, lambda path: os.path.normpath(folder / path))
    return _with_own_tags(shot) if version < 3 else shot


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
    """Save. Raises OutputError with the reason when the place cannot be written; the old file is then untouched."""
    path = Path(path).absolute()
    part = path.with_name(f".{path.name}.part")
    try:
        data = pack(shot, path.parent)
        with open(part, "wb") as file:
            file.write(data)
            file.flush()
            os.fsync(file.fileno())
        os.replace(part, path)
    except OSError as error:
        with contextlib.suppress(OSError):
            part.unlink(missing_ok=True)
        raise writing_problem(path, error) from error


def read(path: str | Path) -> Shot:
    """Open a .lode file. The clip is not looked for here: a missing one is asked for later."""
    path = Path(path).absolute()
    try:
        data = path.read_bytes()
    except OSError as error:
        raise ShotFileError(
            f"{path.name} cannot be read: {(error.strerror or 'unknown reason').lower()}.", "Look whether it is still there."
        ) from error
    return unpack(data, path.name, path.parent)
