"""Plates in: what a clip is (`probe`), and its frames by number (`open_plate`).

A frame number counts from 0 in order of presentation time, whatever order the file holds them in.
"""

import os
import re
from fractions import Fraction
from pathlib import Path
from typing import Any

import cv2
import msgspec
import numpy as np

from ..basics.colour import LINEAR_PICTURE, SRGB_PICTURE, Colour, encode, from_tags
from ..basics.errors import PlateError
from .decoding import Planes
from .guard import Reader, path_bytes
from .sizes import check_size
from .stills import PICTURES, SEQUENCE_SUFFIXES, read_by, read_picture
from .yuv import rgb_of

MOVIE = "lodestar.core.media.decoding:Movie"  # what a child process has open
MOVIE_SUFFIXES = {".mp4", ".mov", ".mkv", ".webm", ".m4v", ".avi", ".mts", ".mxf"}


class PlateInfo(msgspec.Struct, frozen=True):
    """What was read from a clip's header and packets. `rate` is frames a second as a fraction (numerator, denominator).

    width, height: of the picture as it is shown, upright and with square pixels. colour: how its code values are read; untagged:
    what of it the file does not say, so that it was guessed. turn_deg: by how much the file's pictures are turned
    counterclockwise; pixel_aspect: width of the file's pixels to their height. depth: bits of a code value.
    """

    path: str
    width: int
    height: int
    count: int
    rate: tuple[int, int]
    kind: str = "movie"  # or "sequence"
    rate_varies: bool = False
    colour: Colour = Colour()
    untagged: tuple[str, ...] = ()
    codec: str = ""
    depth: int = 8
    has_sound: bool = False
    first_number: int = 0
    turn_deg: int = 0
    pixel_aspect: tuple[int, int] = (1, 1)
    interlaced: bool = False
    has_alpha: bool = False

    @property
    def transfer(self) -> str:
        return self.colour.transfer

    @property
    def fps(self) -> float:
        return self.rate[0] / self.rate[1]

    @property
    def seconds(self) -> float:
        return self.count / self.fps


def probe(path: str | Path, fps: Fraction = Fraction(25)) -> PlateInfo:
    """Read what a movie or a picture of a sequence is. `fps` is taken for sequences, which have no rate of their own.

    Raises PlateError when the file is missing, empty, cut, or holds no picture.
    """
    path = Path(path)
    try:
        str(path).encode()
    except UnicodeEncodeError as error:
        raise PlateError("The clip has a name that is not UTF-8, so that it cannot be kept in a shot.", "Rename it, or its folder.") from error
    try:
        if not path.exists():
            raise PlateError(f"{path.name} is not there any more.", "Choose the clip again, or put it back in its folder.")
        if not path.is_dir() and not path.is_file():
            raise PlateError(f"{path.name} is a device or a pipe, not a file.", "Choose a movie, or a picture of a numbered sequence.")
        if not os.access(path, os.R_OK):
            raise PlateError(f"You may not read {path.name}.", "Change who may read it, or copy it.")
    except (OSError, ValueError) as error:
        raise PlateError(f"{path.name[:60]} cannot be opened: its name cannot be used.", "Give it a shorter, plain name.") from error
    if path.is_dir():
        pictures = sorted(p for p in path.iterdir() if p.suffix.lower() in SEQUENCE_SUFFIXES)
        if not pictures:
            raise PlateError(f"The folder {path.name} holds no pictures.", "Choose a movie, or a folder with numbered pictures.")
        path = pictures[0]
    if path.stat().st_size == 0:
        raise PlateError(f"{path.name} is empty (0 bytes).", "Copy it again from where it was filmed.")
    if path.suffix.lower() in SEQUENCE_SUFFIXES:
        return _probe_sequence(path, fps)
    return _probe_movie(path)


def _probe_movie(path: Path) -> PlateInfo:
    with Reader(MOVIE, path_bytes(path)) as reader:
        told = reader.ask(path, f"The file {path.name}", "header")
    wide, high = told["size"]
    check_size(path, wide, high)
    steps, rate = np.diff(told["times"]), Fraction(*told["rate"])
    if len(steps) and steps.max() == steps.min() and told["time_base"][0]:
        # equal steps tell the rate exactly; a header's average may be rounded
        exact = 1 / (int(steps[0]) * Fraction(*told["time_base"]))
        rate = exact if abs(float(exact / rate) - 1) < 0.02 else rate
    varies = bool(len(steps) and steps.max() > 1.5 * np.median(steps))
    # by how far its pictures are turned counterclockwise: a display matrix can say more than quarters
    turn = round(told["turn_deg"] / 90) * 90 % 360
    across, down = told["pixel_aspect"]
    aspect = (across, down) if 0.1 < across / (down or 1) < 10 else (1, 1)
    width, height = _upright(wide, high, turn, aspect)
    colour, untagged = _colour_of(told)
    return PlateInfo(
        str(path),
        width,
        height,
        len(told["times"]),
        (rate.numerator, rate.denominator),
        "movie",
        varies,
        colour,
        untagged,
        told["codec"],
        told["depth"],
        told["has_sound"],
        0,
        turn,
        aspect,
        told["interlaced"],
        told["has_alpha"],
    )


def _colour_of(told: dict[str, Any]) -> tuple[Colour, tuple[str, ...]]:
    """How its code values are read, and what of that its file does not say."""
    if told["is_rgb"]:
        guess = SRGB_PICTURE
    else:
        # an untagged picture: Rec.601 up to standard definition, Rec.709 above (common practice, no source)
        guess = Colour(matrix="bt709" if told["size"][1] > 576 else "bt601", full_range=told["full_range"])
    primaries, transfer, matrix, range_ = told["tags"]
    return from_tags((primaries, transfer, matrix, range_), guess)


def _upright(width: int, height: int, turn_deg: int, aspect: tuple[int, int]) -> tuple[int, int]:
    """The size of a picture once its pixels are square and it stands upright."""
    width = round(width * aspect[0] / aspect[1])
    return (height, width) if turn_deg % 180 else (width, height)


def _sequence_parts(path: Path) -> tuple[str, int, str]:
    match = re.match(r"^(.*?)(\d+)$", path.stem)
    if not match:
        return path.stem, -1, ""
    return match.group(1), int(match.group(2)), match.group(2)


def sequence_files(path: Path) -> list[Path]:
    """All pictures that share the name around the number, in order of number, up to the first gap."""
    prefix, number, _ = _sequence_parts(path)
    if number < 0:
        return [path]
    found = {}
    for other in path.parent.iterdir():
        if other.suffix.lower() == path.suffix.lower():
            other_prefix, other_number, _ = _sequence_parts(other)
            if other_prefix == prefix and other_number >= 0:
                found[other_number] = other
    first = number
    while first - 1 in found:
        first -= 1
    files = []
    while first in found:
        files.append(found[first])
        first += 1
    return files


def _probe_sequence(path: Path, fps: Fraction) -> PlateInfo:
    files = sequence_files(path)
    picture = read_picture(files[0])
    last = read_picture(files[-1])
    if last.shape != picture.shape:
        raise PlateError(
            _size_sentence(files[-1].name, last, picture.shape[1], picture.shape[0]),
            "Pictures of one sequence must have one size; leave the other ones out.",
        )
    colour = LINEAR_PICTURE if path.suffix.lower() == ".exr" else SRGB_PICTURE
    depth = {np.dtype(np.uint8): 8, np.dtype(np.uint16): 16}.get(picture.dtype, 32)
    return PlateInfo(
        str(files[0]),
        picture.shape[1],
        picture.shape[0],
        len(files),
        (fps.numerator, fps.denominator),
        "sequence",
        colour=colour,
        codec=path.suffix[1:].lower(),
        depth=depth,
        first_number=max(_sequence_parts(files[0])[1], 0),
    )


def _size_sentence(name: str, picture: np.ndarray, width: int, height: int) -> str:
    return f"{name} is {picture.shape[1]} × {picture.shape[0]}, but the clip began with {width} × {height}."


class SequencePlate:
    """Numbered pictures."""

    def __init__(self, info: PlateInfo) -> None:
        self.info = info
        self.files = sequence_files(Path(info.path))
        self._reader = Reader(PICTURES)

    def frame(self, index: int) -> np.ndarray:
        """(h, w, 3) code values of frame `index` (linear light for EXR)."""
        if not 0 <= index < len(self.files):
            raise PlateError(f"Picture {index} of {Path(self.info.path).name} is missing.", "Put the picture back.")
        picture = read_by(self._reader, self.files[index])
        if picture.shape[:2] != (self.info.height, self.info.width):
            raise PlateError(
                _size_sentence(self.files[index].name, picture, self.info.width, self.info.height),
                "Pictures of one sequence must have one size; leave the other ones out.",
            )
        return picture

    def planes(self, index: int) -> Planes | None:
        """None: pictures have none."""
        return None

    def luma(self, index: int) -> np.ndarray:
        """(h, w) uint8 brightness in code values, as the tracker is shown it."""
        picture = self.frame(index)
        if picture.dtype == np.float32:
            picture = (np.clip(encode(picture, "srgb"), 0, 1) * 255).astype(np.uint8)
        elif picture.dtype == np.uint16:
            picture = (picture >> 8).astype(np.uint8)
        return cv2.cvtColor(picture, cv2.COLOR_RGB2GRAY)

    def time_s(self, index: int) -> float:
        """When a frame is shown, in seconds of the file."""
        return index / self.info.fps

    def close(self) -> None:
        self._reader.close()


class MoviePlate:
    """Frames of a movie by number. Its decoder runs in a child process: where that dies of a frame, only that frame is lost."""

    def __init__(self, info: PlateInfo) -> None:
        self.info, self.path = info, Path(info.path)
        self._reader = Reader(MOVIE, path_bytes(self.path))
        self._last: tuple[int, dict[str, Any]] | None = None  # the picture that was asked for last
        told = self._reader.ask(self.path, f"The file {self.path.name}", "times")
        self._times_s = told["times"] * float(Fraction(*told["time_base"]))

    def _ask(self, what: str, index: int, **with_: Any) -> dict[str, Any]:
        return self._checked(self._reader.ask(self.path, f"Frame {index} of {self.path.name}", what, index, index=index, **with_), index)

    def _picture(self, index: int) -> dict[str, Any]:
        if self._last is None or self._last[0] != index:
            self._last = index, self._ask("picture", index, rgb=self.info.colour.matrix == "rgb")
        return self._last[1]

    def _checked(self, told: dict[str, Any], index: int) -> dict[str, Any]:
        high, wide = next(value for value in told.values() if isinstance(value, np.ndarray)).shape[:2]
        width, height = _upright(wide, high, self.info.turn_deg, self.info.pixel_aspect)
        if (width, height) != (self.info.width, self.info.height):
            raise PlateError(
                f"The picture of {self.path.name} changes its size at frame {index}: {width} × {height} after {self.info.width} × {self.info.height}.",
                "Cut the clip there and bring in one part.",
            )
        return told

    def _stood(self, picture: np.ndarray) -> np.ndarray:
        """The picture upright, with square pixels."""
        turns, (across, down) = self.info.turn_deg // 90, self.info.pixel_aspect
        if across != down:
            width = round(picture.shape[1] * across / down)
            how = cv2.INTER_AREA if across < down else cv2.INTER_CUBIC
            picture = cv2.resize(picture, (width, picture.shape[0]), interpolation=how)
        return np.ascontiguousarray(np.rot90(picture, turns)) if turns else picture

    def time_s(self, index: int) -> float:
        """When a frame is shown, in seconds of the file."""
        return float(self._times_s[index])

    def frame(self, index: int) -> np.ndarray:
        """(h, w, 3) code values of frame `index`: uint8, or uint16 where the file has more than 8 bits."""
        told = self._picture(index)
        return self._stood(told["rgb"].copy() if "rgb" in told else rgb_of(Planes(**told), self.info.colour))

    def planes(self, index: int) -> Planes | None:
        """Luma and colour differences as they were filmed, of which `frame` makes red, green and blue; None where they are not upright 4:2:0."""
        if self.info.turn_deg or self.info.pixel_aspect[0] != self.info.pixel_aspect[1] or self.info.colour.matrix == "rgb":
            return None
        told = self._picture(index)
        planes = None if "rgb" in told else Planes(**told)
        return planes if planes is not None and planes.is_420 else None

    def luma(self, index: int) -> np.ndarray:
        """(h, w) uint8 brightness in code values, as the tracker is shown it."""
        return self._stood(self._ask("luma", index)["luma"])

    def close(self) -> None:
        self._last = None
        self._reader.close()


Plate = MoviePlate | SequencePlate


def open_plate(info: PlateInfo) -> Plate:
    """A reader for the clip; one reader belongs to one thread. Raises PlateError when it cannot be read (any more)."""
    if not Path(info.path).exists():
        raise PlateError(
            f"The clip {Path(info.path).name} is not in {Path(info.path).parent} any more.", "Say where it is now; the shot itself is whole."
        )
    return SequencePlate(info) if info.kind == "sequence" else MoviePlate(info)
