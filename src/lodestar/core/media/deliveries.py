"""Deliveries out: movies and numbered pictures, written under another name and renamed when they are whole."""

import contextlib
import os
import re
from fractions import Fraction
from pathlib import Path
from typing import Protocol

import av
import cv2
import numpy as np

from ..basics.errors import OutputError, PlateError, writing_problem


class Delivery(Protocol):
    """Takes frames in order; `finish` puts the result under its final name, `abandon` leaves nothing behind."""

    def add(self, index: int, picture: np.ndarray) -> None: ...
    def finish(self) -> None: ...
    def abandon(self) -> None: ...


def open_delivery(path: str | Path, rate: Fraction, width: int, height: int, transfer: str, sound: tuple[str, float, float] | None) -> Delivery:
    """A delivery for the name's ending: .mp4, .mov or .mkv (H.264), or .png or .exr with a number pattern such as name.%04d.png.

    sound: a clip's path, and the second where its sound starts and ends; None for a silent movie.
    Raises OutputError when the place cannot be written or the ending is unknown.
    """
    path = Path(path)
    if not path.parent.exists():
        raise writing_problem(path, FileNotFoundError(2, ""))
    if path.suffix.lower() in (".mp4", ".mov", ".mkv"):
        return MovieDelivery(path, rate, width, height, transfer, sound)
    if path.suffix.lower() in (".png", ".exr"):
        if not re.search(r"%0?\d*d", path.name):
            path = path.with_name(f"{path.stem}.%04d{path.suffix}")
        return SequenceDelivery(path)
    raise OutputError(f"{path.name} has an ending that cannot be written.", "Use .mp4, .mov or .mkv for a movie, .png or .exr for pictures.")


class MovieDelivery:
    """H.264, 4:2:0, Rec.709 matrix and limited range, tagged; the sound is encoded again as AAC."""

    def __init__(self, path: Path, rate: Fraction, width: int, height: int, transfer: str, sound: tuple[str, float, float] | None) -> None:
        self.path, self.rate, self.sound = path, Fraction(rate), sound
        self.part = path.with_name(f".{path.stem}.part{path.suffix}")
        self.count = 0
        # 4:2:0 needs even sides; an odd last row or column is repeated
        self.width, self.height = width + width % 2, height + height % 2
        try:
            self.part.touch()
            self.container = av.open(str(self.part), "w", options={"movflags": "+faststart"} if path.suffix != ".mkv" else {})
        except (OSError, av.FFmpegError) as error:
            raise writing_problem(path, error if isinstance(error, OSError) else OSError()) from error
        self.video = self.container.add_stream("libx264", rate=self.rate)
        self.video.width, self.video.height, self.video.pix_fmt = self.width, self.height, "yuv420p"
        self.video.options = {"crf": "17", "preset": "medium"}
        self.video.time_base = self.video.codec_context.time_base = 1 / self.rate
        context = self.video.codec_context
        context.color_primaries, context.colorspace, context.color_range = 1, 1, 1
        context.color_trc = {"srgb": 13, "linear": 8}.get(transfer, 1)
        self.audio = self.container.add_stream("aac", rate=48000, layout="stereo") if sound else None

    def add(self, index: int, picture: np.ndarray) -> None:
        if picture.shape[:2] != (self.height, self.width):
            picture = np.pad(picture, ((0, self.height - picture.shape[0]), (0, self.width - picture.shape[1]), (0, 0)), "edge")
        frame = av.VideoFrame.from_ndarray(np.ascontiguousarray(picture[..., :3]), format="rgb24")
        frame = frame.reformat(format="yuv420p", src_color_range="JPEG", dst_colorspace="ITU709", dst_color_range="MPEG")
        frame.pts, frame.time_base = self.count, 1 / self.rate
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
        resampler = av.AudioResampler(format="fltp", layout="stereo", rate=48000)
        parts: list[tuple[int, np.ndarray]] = []
        try:
            with av.open(clip) as source:
                for frame in source.decode(source.streams.audio[0]):
                    for piece in resampler.resample(frame):
                        at = round(float(frame.time or 0) * 48000) if not parts else parts[-1][0] + parts[-1][1].shape[1]
                        parts.append((at, piece.to_ndarray()))
                    if (frame.time or 0) > end:
                        break
        except (av.FFmpegError, OSError) as error:
            raise PlateError("The sound of the clip cannot be read.", "Write the movie without sound.") from error
        first, last = round(start * 48000), round(end * 48000)
        samples = np.zeros((2, last - first), np.float32)
        for at, heard in parts:
            a, b = max(at, first), min(at + heard.shape[1], last)
            if b > a:
                samples[:, a - first : b - first] = heard[:, a - at : b - at]
        for k in range(0, samples.shape[1], 1024):
            block = av.AudioFrame.from_ndarray(np.ascontiguousarray(samples[:, k : k + 1024]), format="fltp", layout="stereo")
            block.rate, block.pts, block.time_base = 48000, k, Fraction(1, 48000)
            self._write(self.audio.encode(block))
        self._write(self.audio.encode())

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

    def __init__(self, path: Path) -> None:
        self.path = path
        self.written: list[tuple[Path, Path]] = []

    def add(self, index: int, picture: np.ndarray) -> None:
        final = self.path.with_name(self.path.name % index)
        part = final.with_name(f".{final.stem}.part{final.suffix}")
        try:
            part.touch()
            self.written.append((part, final))
            if final.suffix.lower() == ".exr":
                _write_exr(picture, part)
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


def _write_exr(picture: np.ndarray, path: Path) -> None:
    """OpenEXR writes by file name only."""
    import OpenEXR

    name = "Y" if picture.ndim == 2 else {3: "RGB", 4: "RGBA"}[picture.shape[2]]
    header = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}
    try:
        with OpenEXR.File(header, {name: np.ascontiguousarray(picture, np.float16)}) as file:
            file.write(str(path))
    except RuntimeError as error:
        raise OSError(28 if "space" in str(error) else 5, str(error)) from error
