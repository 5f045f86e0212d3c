"""Deliveries out: movies and numbered pictures, written under another name and renamed when they are whole."""

import contextlib
import os
import re
from fractions import Fraction
from pathlib import Path
from typing import Protocol

import av
import cv2
import msgspec
import numpy as np

from ..basics.colour import Colour, tags_of
from ..basics.errors import OutputError, PlateError, writing_problem
from ..basics.paths import check_writable, clear_parts, part_of
from .decoding import HERTZ, Planes
from .guard import Reader, path_bytes
from .stills import file_url
from .yuv import frame_from, planes_of, with_filmed

BLOCK = 1024  # samples of one block of the sound that is written
MOVIES = (".mp4", ".mov", ".mkv")
PICTURES = (".png", ".exr")
PATTERN, MOST_DIGITS = re.compile(r"%0?(\d*)d"), 12  # of a picture's number in its name
TICK = Fraction(1, 90000)  # of a movie's clock: the usual rates are whole numbers of it


Plated = tuple[np.ndarray, Planes] | None


class Delivery(Protocol):
    """Takes frames in order; `finish` puts the result under its final name, `abandon` leaves nothing behind. at_s: when a frame is
    shown, where frames do not follow each other evenly. plate: the clip's frame as `Plate.frame` and `Plate.planes` give it, where the picture is of
    the same kind: what is as it was there is written as it was filmed."""

    def add(self, index: int, picture: np.ndarray, at_s: float | None = None, plate: Plated = None) -> None: ...
    def finish(self) -> None: ...
    def abandon(self) -> None: ...


def open_delivery(
    path: str | Path, rate: Fraction, width: int, height: int, colour: Colour, sound: tuple[str, float, float] | None, deep: bool = False
) -> Delivery:
    """A delivery for the name's ending: .mp4, .mov or .mkv (H.264), or .png or .exr with a number pattern such as name.%04d.png.

    colour: how the code values of its pictures are to be read; a movie is tagged so. deep: whether a movie has 10 bits, not 8, and an EXR 32, not 16.
    sound: a clip's path, and the second where its sound starts and ends; None for a silent movie.
    Raises OutputError when the place cannot be written or the ending is unknown.
    """
    path = Path(path)
    if path.suffix.lower() not in (*MOVIES, *PICTURES):
        raise OutputError(f"{path.name} has an ending that cannot be written.", "Use .mp4, .mov or .mkv for a movie, .png or .exr for pictures.")
    check_writable(path)
    clear_parts(path.parent)
    if path.suffix.lower() in MOVIES:
        path = Path(os.path.realpath(path))
        return MovieDelivery(path, rate, width, height, colour, sound, deep)
    return SequenceDelivery(path, deep)


def picture_path(path: Path, index: int) -> Path:
    """The file of one picture: the number stands for a pattern such as %04d in the name, or before its ending. Any other % is a letter.

    Raises OutputError for a name with several patterns, or with one of more than MOST_DIGITS digits.
    """
    found = PATTERN.findall(path.name)
    if len(found) > 1 or (found and int(found[0] or 0) > MOST_DIGITS):
        why = "has more than one place for the number" if len(found) > 1 else f"asks for a number of more than {MOST_DIGITS} digits"
        raise OutputError(f"{path.name} {why}.", "Write it as name.%04d.png.")
    if not found:
        return path.with_name(f"{path.stem}.{index:04}{path.suffix}")
    return path.with_name(PATTERN.sub(lambda match: f"{index:0{int(match.group(1) or 0)}d}", path.name))


def outputs_of(path: Path, frames: range) -> list[Path]:
    """The files that a delivery to this name makes."""
    if path.suffix.lower() not in PICTURES:
        return [path]
    return [picture_path(path, index) for index in frames]


class MovieDelivery:
    """H.264, 4:2:0, with the primaries and the transfer of what it gets and a matrix that goes with them, in limited range unless the
    clip used the whole; all of it tagged. The sound is encoded again as AAC."""

    def __init__(
        self, path: Path, rate: Fraction, width: int, height: int, colour: Colour, sound: tuple[str, float, float] | None, deep: bool
    ) -> None:
        self.colour = msgspec.structs.replace(colour, matrix="bt709", full_range=False) if colour.matrix == "rgb" else colour
        self.bits = 10 if deep else 8
        self.path, self.rate, self.sound = path, Fraction(rate), sound
        self.part = part_of(path)
        self.count, self._last = 0, -1
        # 4:2:0 needs even sides; an odd last row or column is repeated
        self.width, self.height = width + width % 2, height + height % 2
        try:
            self.part.touch()
            self.container = av.open(file_url(self.part), "w", options={"movflags": "+faststart"} if path.suffix != ".mkv" else {})
        except (OSError, av.FFmpegError) as error:
            raise writing_problem(path, error if isinstance(error, OSError) else OSError()) from error
        self.video = self.container.add_stream("libx264", rate=self.rate)
        self.video.width, self.video.height, self.video.pix_fmt = self.width, self.height, "yuv420p" if self.bits == 8 else "yuv420p10le"
        self.video.options = {"crf": "17", "preset": "medium"}
        self.video.time_base = self.video.codec_context.time_base = TICK
        context = self.video.codec_context
        context.color_primaries, context.color_trc, context.colorspace, context.color_range = tags_of(self.colour)
        self.audio = self.container.add_stream("aac", rate=48000, layout="stereo") if sound else None

    def add(self, index: int, picture: np.ndarray, at_s: float | None = None, plate: Plated = None) -> None:
        if picture.shape[:2] != (self.height, self.width):
            picture = np.pad(picture, ((0, self.height - picture.shape[0]), (0, self.width - picture.shape[1]), (0, 0)), "edge")
        rgb = np.ascontiguousarray(picture[..., :3])
        planes = planes_of(rgb, self.colour, self.bits)
        frame = frame_from(planes if plate is None else with_filmed(planes, rgb, *plate, self.colour))
        frame.color_primaries, frame.color_trc, frame.colorspace, frame.color_range = tags_of(self.colour)
        at = round(self.count / self.rate / TICK if at_s is None else at_s / TICK)
        self._last = at = max(at, self._last + 1)  # two frames at one time would be one frame
        frame.pts, frame.time_base = at, TICK
        self.count += 1
        self._write(self.video.encode(frame))

    def _write(self, packets: list[av.Packet]) -> None:
        try:
            self.container.mux(packets)
        except (OSError, av.FFmpegError) as error:
            self.abandon()
            raise writing_problem(self.path, error if isinstance(error, OSError) else OSError()) from error

    def _add_sound(self) -> None:
        assert self.sound and self.audio
        clip, start, end = self.sound
        first, last, written = round(start * HERTZ), round(end * HERTZ), 0
        path, at = Path(clip), None
        with Reader("lodestar.core.media.decoding:Sound", np.array([start]).tobytes() + path_bytes(path)) as reader:
            while (heard := reader.ask(path, f"The sound of {path.name}", "heard"))["samples"].size:
                samples = heard["samples"]
                at = round(heard["time_s"] * HERTZ) if at is None else at
                a, b = max(at - first, written), min(at + samples.shape[1] - first, last - first)
                if a > written:
                    self._add_samples(np.zeros((2, a - written), np.float32), written)
                if b > a:
                    self._add_samples(samples[:, a + first - at : b + first - at], a)
                written, at = max(written, b), at + samples.shape[1]
                if at >= last:
                    break
        self._add_samples(np.zeros((2, last - first - written), np.float32), written)
        self._write(self.audio.encode())

    def _add_samples(self, samples: np.ndarray, at: int) -> None:
        assert self.audio
        for k in range(0, samples.shape[1], BLOCK):
            block = av.AudioFrame.from_ndarray(np.ascontiguousarray(samples[:, k : k + BLOCK]), format="fltp", layout="stereo")
            block.rate, block.pts, block.time_base = HERTZ, at + k, Fraction(1, HERTZ)
            self._write(self.audio.encode(block))

    def finish(self) -> None:
        try:
            self._write(self.video.encode())
            if self.audio is not None:
                self._add_sound()
            self.container.close()
            with open(self.part, "rb") as file:
                os.fsync(file.fileno())
            os.replace(self.part, self.path)
        except (OSError, av.FFmpegError) as error:
            self.abandon()
            raise writing_problem(self.path, error if isinstance(error, OSError) else OSError()) from error
        except PlateError:
            self.abandon()
            raise

    def abandon(self) -> None:
        with contextlib.suppress(OSError, av.FFmpegError):  # the file is thrown away in the next line
            self.container.close()
        self.part.unlink(missing_ok=True)


class SequenceDelivery:
    """One file a frame: PNG (straight alpha) or EXR (half floats, linear light, premultiplied alpha)."""

    def __init__(self, path: Path, deep: bool = False) -> None:
        """deep: floats of 32 bits, not 16, in EXR."""
        self.path, self.deep = path, deep
        self.written: list[tuple[Path, Path]] = []

    def add(self, index: int, picture: np.ndarray, at_s: float | None = None, plate: Plated = None) -> None:
        final = picture_path(self.path, index)
        part = part_of(final)
        try:
            part.touch()
            self.written.append((part, final))
            if final.suffix.lower() == ".exr":
                _write_exr(picture, part, np.float32 if self.deep else np.float16)
            else:
                part.write_bytes(_png_bytes(picture))
        except OSError as error:
            self.abandon()
            raise writing_problem(final, error) from error

    def finish(self) -> None:
        try:
            for part, final in self.written:
                os.replace(part, final)
        except OSError as error:
            self.abandon()
            raise writing_problem(self.path, error) from error

    def abandon(self) -> None:
        for part, _ in self.written:
            part.unlink(missing_ok=True)
        self.written = []


def _png_bytes(picture: np.ndarray) -> bytes:
    order = cv2.COLOR_RGBA2BGRA if picture.ndim == 3 and picture.shape[2] == 4 else cv2.COLOR_RGB2BGR
    if picture.ndim == 3:
        picture = cv2.cvtColor(picture, order)
    done, data = cv2.imencode(".png", picture)
    if not done:
        raise OSError(0, "the picture could not be packed")
    return data.tobytes()


def _write_exr(picture: np.ndarray, path: Path, kind: type) -> None:
    """OpenEXR writes by file name only."""
    import OpenEXR

    name = "Y" if picture.ndim == 2 else {3: "RGB", 4: "RGBA"}[picture.shape[2]]
    header = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}
    try:
        with OpenEXR.File(header, {name: np.ascontiguousarray(picture, kind)}) as file:
            file.write(str(path))
    except RuntimeError as error:
        raise OSError(28 if "space" in str(error) else 5, str(error)) from error
