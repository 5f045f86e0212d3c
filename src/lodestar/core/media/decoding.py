"""Movies as the decoder's library reads them: pictures by number, and sound. All of it is for a child process (`basics.apart`), since a decoder is a
large program in C that reads what anybody made. It needs little else, so that the process has begun soon.
"""

from bisect import bisect_right
from collections import OrderedDict
from collections.abc import Iterator
from fractions import Fraction
from pathlib import Path
from typing import Any, NamedTuple

import av
import numpy as np

from ..basics.apart import alive
from ..basics.errors import PlateError
from .stills import file_url

KEPT_FRAMES = 4
BACK_BYTES = 64_000_000  # of frames that are kept while a clip is read backward: 20 of 1080p
AHEAD = 12  # frames by which one goes on decoding rather than begin anew at a key frame
HERTZ = 48_000


class Planes(NamedTuple):
    """A picture in luma (h, w) and blue and red differences, as large or half as wide or high, in codes of so many bits."""

    luma: np.ndarray
    blue: np.ndarray
    red: np.ndarray
    bits: int

    @property
    def is_420(self) -> bool:
        """Whether it is of even sides, with a quarter of the colour samples."""
        high, wide = self.luma.shape
        return high % 2 == wide % 2 == 0 and self.blue.shape == self.red.shape == (high // 2, wide // 2)


def planes_in(frame: av.VideoFrame) -> Planes:
    """Those of a decoded picture. A layout that is not known is brought to one that is."""
    name = frame.format.name
    if name in ("nv12", "p010le", "p016le", "p210le"):
        bits = {"nv12": 8, "p010le": 10, "p016le": 16, "p210le": 10}[name]
        shift = 16 - bits if bits > 8 else 0
        both = _plane(frame.planes[1], 2 * ((frame.width + 1) // 2), bits, shift)
        return Planes(_plane(frame.planes[0], frame.width, bits, shift), both[:, 0::2], both[:, 1::2], bits)
    parts, bits = frame.format.components, frame.format.components[0].bits
    planar = name.startswith(("yuv4", "yuvj4", "yuva4")) and not name.endswith("be") and len(frame.planes) >= 3
    if not planar:
        return planes_in(frame.reformat(format="yuv444p16le" if bits > 8 else "yuv444p"))
    wide = [(frame.width + (1 << shift) - 1) >> shift for shift in (0, 1 if parts[1].width < frame.width else 0)]
    y, u, v = (_plane(frame.planes[k], wide[min(k, 1)], bits) for k in range(3))
    return Planes(y, u, v, bits)


def _plane(plane: av.video.plane.VideoPlane, width: int, bits: int, shift: int = 0) -> np.ndarray:
    """(h, w) code values of a plane, without the padding of its rows."""
    kind: type = np.uint8 if bits == 8 and not shift else np.uint16
    rows: np.ndarray = np.frombuffer(memoryview(plane), kind).reshape(plane.height, plane.line_size // np.dtype(kind).itemsize)
    return rows[:, :width] >> shift if shift else rows[:, :width]


def _is_rgb(frame: av.VideoFrame) -> bool:
    return frame.format.name.startswith(("rgb", "bgr", "gbr", "argb", "abgr", "pal", "gray", "x2", "0rgb"))


class Movie:
    """Frames of a movie by number, exact in long-GOP files too: each is found by its presentation time.

    data: the path. Raises PlateError where the file holds no picture that can be decoded.
    """

    def __init__(self, data: bytes) -> None:
        self.path = Path(data.decode("utf-8", "surrogateescape"))
        self._at, self._back = -1, False
        self._kept: OrderedDict[int, av.VideoFrame] = OrderedDict()
        try:
            self._container = av.open(file_url(self.path))
            if not self._container.streams.video:
                raise PlateError(f"{self.path.name} holds no picture, only sound or text.", "Choose a movie.")
            self._stream = self._container.streams.video[0]
            if self._stream.codec_context is None:
                raise PlateError(f"{self.path.name} is of a kind that cannot be decoded.", "Convert it to a usual movie, such as H.264 in MP4.")
            self._stream.thread_type = "AUTO"
            self._times, starts = self._frame_times()
            if not self._times or not self._stream.codec_context.width:
                raise PlateError(f"{self.path.name} holds no frame that can be read.", "Copy it again; it may have been cut short.")
            self._number = {time: number for number, time in enumerate(self._times)}
            self._starts = sorted({0, *(self._number[time] for time in starts)})
            self._start()
        except (av.FFmpegError, OSError, IndexError, ValueError) as error:
            raise self._unreadable() from error

    def _unreadable(self) -> PlateError:
        return PlateError(f"{self.path.name} cannot be read as a movie.", "It may be cut short, damaged, or of another kind; copy it again.")

    def _frame_times(self) -> tuple[list[int], list[int]]:
        """Presentation times of all frames, in the stream's time base, and those of key frames, without decoding."""
        times: list[int] = []
        starts: list[int] = []
        try:
            for packet in self._container.demux(self._stream):
                alive()
                if packet.pts is not None and packet.size and not packet.is_discard:
                    times.append(packet.pts)
                    if packet.is_keyframe:
                        starts.append(packet.pts)
        except av.FFmpegError:
            if not times:  # a cut end leaves what came before usable
                raise
        return sorted(set(times)), starts

    # what is asked ------------------------------------------------------------------------------------------------------------

    def times(self) -> dict[str, Any]:
        """times: (n,) of its frames, in units of time_base."""
        base = self._stream.time_base or Fraction(0)
        return {"times": np.array(self._times, np.int64), "time_base": (base.numerator, base.denominator)}

    def header(self) -> dict[str, Any]:
        """What the file says of itself and of its first picture, and `times`."""
        stream, context = self._stream, self._stream.codec_context
        rate, aspect = stream.average_rate or stream.guessed_rate or Fraction(25), context.sample_aspect_ratio
        try:
            frame = next(self._frames)
            self._start()
        except (av.FFmpegError, StopIteration, ValueError, OSError) as error:
            raise self._unreadable() from error
        return {
            **self.times(),
            "rate": (rate.numerator, rate.denominator),
            "size": (frame.width, frame.height),
            "tags": [int(tag or 0) for tag in (frame.color_primaries, frame.color_trc, frame.colorspace, frame.color_range)],
            "is_rgb": _is_rgb(frame),
            "full_range": frame.format.name.startswith("yuvj"),
            "turn_deg": float(getattr(frame, "rotation", 0) or 0),
            "pixel_aspect": (aspect.numerator, aspect.denominator) if aspect else (1, 1),
            "codec": context.name,
            "depth": frame.format.components[0].bits,
            "has_sound": bool(self._container.streams.audio),
            "interlaced": bool(frame.interlaced_frame),
            "has_alpha": len(frame.format.components) in (2, 4) and frame.format.name != "pal8",
        }

    def picture(self, index: int, rgb: bool) -> dict[str, Any]:
        """Frame `index`: rgb (h, w, 3), uint8 or uint16, where the file holds that or it is wanted so; else luma, blue, red, bits (`Planes`)."""
        frame = self._decode(index)
        if rgb or _is_rgb(frame):
            return {"rgb": frame.reformat(format="rgb48le" if frame.format.components[0].bits > 8 else "rgb24").to_ndarray()}
        return planes_in(frame)._asdict()

    def luma(self, index: int) -> dict[str, Any]:
        """(h, w) uint8 brightness of frame `index` in code values."""
        frame = self._decode(index)
        if frame.format.name.startswith(("yuv4", "yuvj4", "nv12")) and frame.format.components[0].bits == 8:
            return {"luma": _plane(frame.planes[0], frame.width, 8)}
        return {"luma": frame.reformat(format="gray").to_ndarray()}

    # decoding -----------------------------------------------------------------------------------------------------------------

    def _start(self, index: int = 0) -> None:
        self._container.seek(self._times[index], stream=self._stream, backward=True, any_frame=False)
        self._frames = self._container.decode(self._stream)
        self._at = -1

    def _decode(self, index: int) -> av.VideoFrame:
        if index in self._kept:
            return self._kept[index]
        if not 0 <= index < len(self._times):
            raise PlateError(f"Frame {index} is not in {self.path.name}, which has {len(self._times)} frames.", "Shorten the range.")
        try:
            # who goes on decodes what lies between; a jump decodes from a key frame, which may lie before all that
            start = self._starts[bisect_right(self._starts, index) - 1]
            near = self._at < index and (index <= self._at + AHEAD or start <= self._at)
            # who goes back will go on back: each time is to decode from a key frame, so more of what is passed on the way is kept
            self._back = not near and index < self._at
            if not near:
                self._start(index)
            for frame in self._frames:
                alive()
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
                    return frame
            return self._from_start(index)
        except (av.FFmpegError, OSError, ValueError, EOFError, MemoryError) as error:
            raise PlateError(
                f"{self.path.name} cannot be read at frame {index}.", "The file is damaged there; shorten the range to end before it."
            ) from error

    def _from_start(self, index: int) -> av.VideoFrame:
        self._start(0)
        for frame in self._frames:
            alive()
            number = self._number.get(frame.pts or 0, -1)
            self._at = max(self._at, number)
            if number == index:
                return frame
        self._start(0)
        raise PlateError(
            f"{self.path.name} ends before frame {index}, though its header promises {len(self._times)}.",
            "The file is cut; shorten the range, or copy it again.",
        )


class Sound:
    """The sound of a clip from a time on. data: seconds (float64), then the path."""

    def __init__(self, data: bytes) -> None:
        start_s = float(np.frombuffer(data[:8], np.float64)[0])
        try:
            self._container = av.open(file_url(data[8:].decode("utf-8", "surrogateescape")))
            stream = self._container.streams.audio[0]
            # a packet before the start is decoded too, since a decoder needs some to begin
            if start_s > 1.0 and stream.time_base:
                self._container.seek(int((start_s - 1.0) / stream.time_base), stream=stream, backward=True)
            self._pieces = self._decoded(stream)
        except (av.FFmpegError, OSError, IndexError, ValueError) as error:
            raise _no_sound() from error

    def _decoded(self, stream: av.AudioStream) -> Iterator[tuple[float, np.ndarray]]:
        resampler = av.AudioResampler(format="fltp", layout="stereo", rate=HERTZ)
        for frame in self._container.decode(stream):
            for piece in resampler.resample(frame):
                yield float(frame.time or 0), piece.to_ndarray()

    def heard(self) -> dict[str, Any]:
        """A second or so that comes next: samples (2, n) float32, and the time of the first by the clip, s. Of the last nothing comes: n is 0."""
        found: list[np.ndarray] = []
        time_s = 0.0
        try:
            for at_s, piece in self._pieces:
                time_s = time_s if found else at_s
                found.append(piece)
                if sum(p.shape[1] for p in found) >= HERTZ:
                    break
        except (av.FFmpegError, OSError, ValueError) as error:
            raise _no_sound() from error
        return {"time_s": time_s, "samples": np.concatenate(found, 1) if found else np.zeros((2, 0), np.float32)}


def _no_sound() -> PlateError:
    return PlateError("The sound of the clip cannot be read.", "Write the movie without sound.")
