"""Plates in: what a clip is (`probe`), and its frames by number (`open_plate`).

A frame number counts from 0 in order of presentation time, whatever order the file holds them in.
"""

import os
import re
from collections import OrderedDict
from fractions import Fraction
from pathlib import Path

import av
import cv2
import msgspec
import numpy as np

from ..basics.colour import LINEAR_PICTURE, SRGB_PICTURE, Colour, encode, from_tags
from ..basics.errors import PlateError
from .sizes import check_size
from .stills import SEQUENCE_SUFFIXES, file_url, read_picture
from .trial import refuse_known
from .yuv import Planes, planes_in, rgb_of

MOVIE_SUFFIXES = {".mp4", ".mov", ".mkv", ".webm", ".m4v", ".avi", ".mts", ".mxf"}
KEPT_FRAMES = 4
BACK_BYTES = 64_000_000  # of frames that are kept while a clip is read backward: 20 of 1080p


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
    refuse_known(path)
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
    try:
        with av.open(file_url(path)) as container:
            if not container.streams.video:
                raise PlateError(f"{path.name} holds no picture, only sound or text.", "Choose a movie.")
            stream = container.streams.video[0]
            if stream.codec_context is None:
                raise PlateError(f"{path.name} is of a kind that cannot be decoded.", "Convert it to a usual movie, such as H.264 in MP4.")
            times = _frame_times(container, stream)
            if not times or not stream.codec_context.width:
                raise PlateError(f"{path.name} holds no frame that can be read.", "Copy it again; it may have been cut short.")
            container.seek(0, stream=stream)
            frame = next(container.decode(stream))
            steps = np.diff(times)
            rate = stream.average_rate or stream.guessed_rate or Fraction(25)
            if len(steps) and steps.max() == steps.min() and stream.time_base:
                # equal steps tell the rate exactly; a header's average may be rounded
                exact = 1 / (int(steps[0]) * stream.time_base)
                rate = exact if abs(float(exact / rate) - 1) < 0.02 else rate
            varies = bool(len(steps) and steps.max() > 1.5 * np.median(steps))
            check_size(path, frame.width, frame.height)
            turn, aspect = _quarter_turns(frame), _pixel_aspect(stream)
            width, height = _upright(frame.width, frame.height, turn, aspect)
            colour, untagged = _colour_of(frame)
            return PlateInfo(
                str(path),
                width,
                height,
                len(times),
                (rate.numerator, rate.denominator),
                "movie",
                varies,
                colour,
                untagged,
                stream.codec_context.name,
                frame.format.components[0].bits,
                bool(container.streams.audio),
                0,
                turn,
                aspect,
                bool(frame.interlaced_frame),
                len(frame.format.components) in (2, 4) and frame.format.name != "pal8",
            )
    except (av.FFmpegError, StopIteration, ValueError, OSError) as error:
        raise PlateError(f"{path.name} cannot be read as a movie.", "It may be cut short, damaged, or of another kind; copy it again.") from error


def _frame_times(container: av.container.InputContainer, stream: av.VideoStream) -> list[int]:
    """Presentation times of all frames, in the stream's time base, without decoding."""
    times: list[int] = []
    try:
        for packet in container.demux(stream):
            if packet.pts is not None and packet.size and not packet.is_discard:
                times.append(packet.pts)
    except av.FFmpegError:
        if not times:  # a cut end leaves what came before usable
            raise
    return sorted(set(times))


def _colour_of(frame: av.VideoFrame) -> tuple[Colour, tuple[str, ...]]:
    """How its code values are read, and what of that its file does not say."""
    if _is_rgb(frame):
        guess = SRGB_PICTURE
    else:
        # an untagged picture: Rec.601 up to standard definition, Rec.709 above (common practice, no source)
        guess = Colour(matrix="bt709" if frame.height > 576 else "bt601", full_range=frame.format.name.startswith("yuvj"))
    return from_tags((int(frame.color_primaries or 0), int(frame.color_trc or 0), int(frame.colorspace or 0), int(frame.color_range or 0)), guess)


def _is_rgb(frame: av.VideoFrame) -> bool:
    return frame.format.name.startswith(("rgb", "bgr", "gbr", "argb", "abgr", "pal", "gray", "x2", "0rgb"))


def _quarter_turns(frame: av.VideoFrame) -> int:
    """By how many degrees its display matrix turns the picture counterclockwise: 0, 90, 180 or 270."""
    return round((getattr(frame, "rotation", 0) or 0) / 90) * 90 % 360


def _pixel_aspect(stream: av.VideoStream) -> tuple[int, int]:
    aspect = stream.codec_context.sample_aspect_ratio
    if not aspect or not 0.1 < aspect < 10:
        return (1, 1)
    return aspect.numerator, aspect.denominator


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

    def frame(self, index: int) -> np.ndarray:
        """(h, w, 3) code values of frame `index` (linear light for EXR)."""
        if not 0 <= index < len(self.files):
            raise PlateError(f"Picture {index} of {Path(self.info.path).name} is missing.", "Put the picture back.")
        picture = read_picture(self.files[index])
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
        pass


class MoviePlate:
    """Frames of a movie by number, exact in long-GOP files too: each is found by its presentation time."""

    def __init__(self, info: PlateInfo) -> None:
        self.info = info
        self._container: av.container.InputContainer | None = None
        self._at, self._back = -1, False
        self._kept: OrderedDict[int, av.VideoFrame] = OrderedDict()
        try:
            self._container = av.open(file_url(info.path))
            self._stream = self._container.streams.video[0]
            self._stream.thread_type = "AUTO"
            self._times = _frame_times(self._container, self._stream)
            self._number = {time: number for number, time in enumerate(self._times)}
            self._start()
        except (av.FFmpegError, OSError, IndexError, ValueError) as error:
            self.close()
            raise PlateError(
                f"{Path(info.path).name} cannot be read as a movie.", "It may have been moved, cut or damaged; choose it again."
            ) from error

    def _start(self, index: int = 0) -> None:
        assert self._container
        self._container.seek(self._times[index], stream=self._stream, backward=True, any_frame=False)
        self._frames = self._container.decode(self._stream)
        self._at = -1

    def _decode(self, index: int) -> av.VideoFrame:
        if index in self._kept:
            return self._kept[index]
        if not 0 <= index < len(self._times):
            raise PlateError(f"Frame {index} is not in {Path(self.info.path).name}, which has {len(self._times)} frames.", "Shorten the range.")
        try:
            near = self._at < index <= self._at + 12
            # who goes back will go on back: each time is to decode from a key frame, so more of what is passed on the way is kept
            self._back = not near and index < self._at
            if not near:
                self._start(index)
            for frame in self._frames:
                number = self._number.get(frame.pts or 0)
                if number is None:
                    continue
                if number > index and self._at < 0:
                    break  # the file's key frame flags lie: decode from the start
                self._at = number
                self._kept[number] = frame
                most = BACK_BYTES // sum(plane.buffer_size for plane in frame.planes) if self._back else 0
                while len(self._kept) > max(most, KEPT_FRAMES):
                    self._kept.popitem(last=False)
                if number == index:
                    return self._checked(frame, index)
            return self._from_start(index)
        except (av.FFmpegError, OSError, ValueError, EOFError, MemoryError) as error:
            raise PlateError(
                f"{Path(self.info.path).name} cannot be read at frame {index}.", "The file is damaged there; shorten the range to end before it."
            ) from error

    def _from_start(self, index: int) -> av.VideoFrame:
        self._start(0)
        for frame in self._frames:
            number = self._number.get(frame.pts or 0, -1)
            self._at = max(self._at, number)
            if number == index:
                return self._checked(frame, index)
        self._start(0)
        raise PlateError(
            f"{Path(self.info.path).name} ends before frame {index}, though its header promises {self.info.count}.",
            "The file is cut; shorten the range, or copy it again.",
        )

    def _checked(self, frame: av.VideoFrame, index: int) -> av.VideoFrame:
        width, height = _upright(frame.width, frame.height, self.info.turn_deg, self.info.pixel_aspect)
        if (width, height) != (self.info.width, self.info.height):
            raise PlateError(
                f"The picture of {Path(self.info.path).name} changes its size at frame {index}: {width} × {height} after {self.info.width} × {self.info.height}.",
                "Cut the clip there and bring in one part.",
            )
        return frame

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
        return float(self._times[index] * (self._stream.time_base or 0))

    def frame(self, index: int) -> np.ndarray:
        """(h, w, 3) code values of frame `index`: uint8, or uint16 where the file has more than 8 bits."""
        frame = self._decode(index)
        if _is_rgb(frame) or self.info.colour.matrix == "rgb":
            deep = frame.format.components[0].bits > 8
            return self._stood(frame.reformat(format="rgb48le" if deep else "rgb24").to_ndarray())
        return self._stood(rgb_of(frame, self.info.colour))

    def planes(self, index: int) -> Planes | None:
        """Luma and colour differences as they were filmed, of which `frame` makes red, green and blue; None where they are not upright 4:2:0."""
        if self.info.turn_deg or self.info.pixel_aspect[0] != self.info.pixel_aspect[1] or self.info.colour.matrix == "rgb":
            return None
        return planes_in(self._decode(index))

    def luma(self, index: int) -> np.ndarray:
        """(h, w) uint8 brightness in code values, as the tracker is shown it."""
        frame = self._decode(index)
        if frame.format.name.startswith(("yuv4", "yuvj4", "nv12")) and frame.format.components[0].bits == 8:
            plane = frame.planes[0]
            return self._stood(np.frombuffer(memoryview(plane), np.uint8).reshape(plane.height, plane.line_size)[:, : frame.width].copy())
        return self._stood(frame.reformat(format="gray").to_ndarray())

    def close(self) -> None:
        if self._container is not None:
            self._container.close()
            self._container = None


Plate = MoviePlate | SequencePlate


def open_plate(info: PlateInfo) -> Plate:
    """A reader for the clip; one reader belongs to one thread. Raises PlateError when it cannot be read (any more)."""
    if not Path(info.path).exists():
        raise PlateError(
            f"The clip {Path(info.path).name} is not in {Path(info.path).parent} any more.", "Say where it is now; the shot itself is whole."
        )
    refuse_known(info.path)
    return SequencePlate(info) if info.kind == "sequence" else MoviePlate(info)
