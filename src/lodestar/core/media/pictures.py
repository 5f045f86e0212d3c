"""Pictures that are put on cards: single ones with their alpha, numbered sequences, and movies."""

import functools
import threading
from pathlib import Path

import numpy as np

from ..basics.errors import PlateError, UserError
from .guard import Reader
from .plates import Plate, PlateInfo, open_plate, probe, sequence_files
from .sizes import check_size
from .stills import PICTURES, SEQUENCE_SUFFIXES, read_as, read_by

CARD_SIDE = 8192  # px; with its halvings it takes 360 MB


@functools.lru_cache(maxsize=8)
def _files(path: str) -> tuple[Path, ...]:
    return tuple(sequence_files(Path(path)))


@functools.lru_cache(maxsize=8)
def _movie(path: str, changed: float, thread: int) -> tuple[PlateInfo, Plate]:
    """A reader belongs to one thread, so each thread has its own."""
    info = probe(path)
    return info, open_plate(info)


@functools.lru_cache(maxsize=4)
def _reader(thread: int) -> Reader:
    """One for each thread, kept: to begin one for each picture of a sequence takes 25 ms."""
    return Reader(PICTURES)


@functools.lru_cache(maxsize=16)
def _still(path: Path, changed: float) -> np.ndarray:
    pixels = read_by(_reader(threading.get_ident()), path, "rgba", CARD_SIDE)
    pixels.flags.writeable = False
    return pixels


def fine_codes(path: str) -> np.ndarray:
    """(h, w, 3) float32 code values 0..1 of a picture, with all of its 16 bits where it has them; of a movie those of its first frame. Raises
    PlateError as `picture_frame`."""
    file = Path(path)
    if not file.exists() or file.suffix.lower() not in SEQUENCE_SUFFIXES:
        return np.asarray(picture_frame(path, 0)[..., :3] / np.float32(255))
    return np.asarray(read_as(file, "rgb48le", CARD_SIDE) / np.float32(65535))


def picture_frame(path: str, index: int) -> np.ndarray:
    """(h, w, 4) uint8, straight alpha, code values: frame `index` of a picture, sequence or movie, which begins anew at its end.

    Raises PlateError when it is missing, cannot be read, or is larger than a card can hold.
    """
    file = Path(path)
    if not file.exists():
        raise PlateError(f"{file.name} is not in {file.parent} any more.", "Put it back, or choose the card's picture again.")
    if file.suffix.lower() in SEQUENCE_SUFFIXES:
        files = _files(path)
        one = files[index % len(files)]
        if not one.exists():
            raise PlateError(f"{one.name} is not in {one.parent} any more.", "Put it back, or choose the card's picture again.")
        return _still(one, one.stat().st_mtime)
    info, plate = _movie(path, file.stat().st_mtime, threading.get_ident())
    check_size(file, info.width, info.height, CARD_SIDE)
    rgb = plate.frame(index % info.count)
    if rgb.dtype != np.uint8:
        rgb = (rgb >> 8).astype(np.uint8)
    return np.dstack([rgb, np.full(rgb.shape[:2], 255, np.uint8)])


def picture_problem(path: str) -> str:
    """What keeps a picture, sequence or movie from being shown; empty when nothing does. Tried once as long as its file stays the same, since a window
    asks again and again, and a picture of a movie takes 20 to 60 ms."""
    try:
        changed = Path(path).stat().st_mtime
    except OSError:
        changed = -1.0
    return _problem(path, changed)


@functools.lru_cache(maxsize=64)
def _problem(path: str, changed: float) -> str:
    try:
        picture_frame(path, 0)
    except UserError as error:
        return error.what
    return ""


def picture_size(path: str) -> tuple[int, int]:
    """Width and height. Raises PlateError as `picture_frame`."""
    height, width = picture_frame(path, 0).shape[:2]
    return width, height
