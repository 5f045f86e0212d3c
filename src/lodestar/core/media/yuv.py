"""Luma and colour differences to red, green and blue, and back, by the standards' own formulas in full precision.

The scaler of the decoder's library works in 8-bit steps: it is off by up to 2.3 code values of 8 bits and 15 of 12 (measured).
Sources: ITU-R BT.709-6, 3; BT.601-7, 2.5; BT.2020-2, tables 4 and 5; SMPTE 240M; H.273, 8.3 for the ranges. Colour samples of
4:2:0 lie on the even columns and between the rows (H.264, figure 6-1: chroma location 0, which is what is meant when untold).
"""

import av
import numba as nb
import numpy as np

from ..basics.colour import Colour
from ..basics.jit import kernel, parallel_kernel
from .decoding import Planes

GONE = 48.0  # codes of 8 bits by which a pixel was changed, from where on nothing of the plate's own codes is left
# share of red and of blue in luma
WEIGHTS = {"bt709": (0.2126, 0.0722), "bt601": (0.299, 0.114), "smpte240m": (0.212, 0.087), "bt2020": (0.2627, 0.0593)}


def _scales(colour: Colour, bits: int) -> tuple[float, float, float, float]:
    """Black level, scale of luma, zero and scale of colour differences, in codes of so many bits."""
    most, half = float(2**bits - 1), float(2 ** (bits - 1))
    if colour.full_range:
        return 0.0, most, half, most
    unit = float(2 ** (bits - 8))
    return 16 * unit, 219 * unit, half, 224 * unit


@kernel
def _row_of_colour(part, r0, r1, low, across, zero, out):
    """One row of a colour difference at the width of luma: a share `low` of row r0 and the rest of row r1, between columns half of each.
    All in single precision, whose error is a thousandth of a code: eight values go at once."""
    last, width, high = part.shape[1] - 1, len(out), np.float32(1) - low
    if across == 1:
        for x in range(width):
            out[x] = low * np.float32(part[r0, x]) + high * np.float32(part[r1, x]) - zero
        return
    for c in range(min(last + 1, (width + 1) // 2)):
        out[2 * c] = low * np.float32(part[r0, c]) + high * np.float32(part[r1, c]) - zero
    for c in range(width // 2):
        out[2 * c + 1] = np.float32(0.5) * (out[2 * c] + (out[2 * c + 2] if 2 * c + 2 < width else out[2 * c]))


@parallel_kernel
def _to_rgb(luma, blue, red, across, down, zero, steps, most, out):
    height, width = luma.shape
    offset, gain, red_red, green_blue, green_red, blue_blue = steps[0], steps[1], steps[2], steps[3], steps[4], steps[5]
    last_row, half, none = blue.shape[0] - 1, np.float32(0.5), np.float32(0)
    for row in nb.prange(height):
        y = np.int64(row)
        above = (y + 1) // down - 1 if down == 2 else y  # the row of colour at or above this row of luma
        r0, r1 = max(above, 0), min(above + down - 1, last_row)
        low = np.float32(1.0 if down == 1 else 0.25 if y % 2 == 0 else 0.75)
        cb, cr = np.empty(width, np.float32), np.empty(width, np.float32)
        _row_of_colour(blue, r0, r1, low, across, zero, cb)
        _row_of_colour(red, r0, r1, low, across, zero, cr)
        for x in range(width):
            light = np.float32(luma[y, x]) * gain + offset
            out[y, x, 0] = np.int32(min(max(light + red_red * cr[x], none), most) + half)
            out[y, x, 1] = np.int32(min(max(light + green_blue * cb[x] + green_red * cr[x], none), most) + half)
            out[y, x, 2] = np.int32(min(max(light + blue_blue * cb[x], none), most) + half)


def rgb_of(planes: Planes, colour: Colour) -> np.ndarray:
    """(h, w, 3) red, green and blue of a picture in luma and colour differences: uint8, or uint16 where it has more bits."""
    luma, blue, red, bits = planes
    out = np.empty((*luma.shape, 3), np.uint8 if bits == 8 else np.uint16)
    across, down = 2 if blue.shape[1] < luma.shape[1] else 1, 2 if blue.shape[0] < luma.shape[0] else 1
    (black, scale, zero, chroma), (kr, kb), most = _scales(colour, bits), WEIGHTS[colour.matrix], 255.0 if bits == 8 else 65535.0
    kg, unit = 1 - kr - kb, most / chroma
    steps = (
        -black / scale * most,
        most / scale,
        2 * (1 - kr) * unit,
        -2 * kb * (1 - kb) / kg * unit,
        -2 * kr * (1 - kr) / kg * unit,
        2 * (1 - kb) * unit,
    )
    _to_rgb(luma, blue, red, across, down, np.float32(zero), np.array(steps, np.float32), np.float32(most), out)
    return out


@parallel_kernel
def _from_rgb(rgb, full, black, scale, zero, chroma, kr, kb, most, luma, blue, red):
    height, width = luma.shape
    kg = 1.0 - kr - kb
    for pair in nb.prange(height // 2):
        row = np.int64(pair)
        for column in range(width // 2):
            cb = cr = 0.0
            for dy in range(2):
                y = 2 * row + dy
                for dx in range(-1, 2):
                    x = min(max(2 * column + dx, 0), width - 1)
                    r, g, b = rgb[y, x, 0] / full, rgb[y, x, 1] / full, rgb[y, x, 2] / full
                    light = kr * r + kg * g + kb * b
                    share = 0.25 if dx == 0 else 0.125
                    cb += share * (b - light) / (2 * (1 - kb))
                    cr += share * (r - light) / (2 * (1 - kr))
                    if dx >= 0:
                        luma[y, x] = int(min(max(light * scale + black, 0.0), most) + 0.5)
            blue[row, column] = int(min(max(cb * chroma + zero, 0.0), most) + 0.5)
            red[row, column] = int(min(max(cr * chroma + zero, 0.0), most) + 0.5)


def planes_of(rgb: np.ndarray, colour: Colour, bits: int) -> Planes:
    """Those of a picture (h, w, 3) of even sides, uint8 or uint16."""
    height, width = rgb.shape[:2]
    kind = np.uint8 if bits == 8 else np.uint16
    luma, blue, red = np.empty((height, width), kind), *(np.empty((height // 2, width // 2), kind) for _ in range(2))
    full = 255.0 if rgb.dtype == np.uint8 else 65535.0
    _from_rgb(rgb, full, *_scales(colour, bits), *WEIGHTS[colour.matrix], float(2**bits - 1), luma, blue, red)
    return Planes(luma, blue, red, bits)


def with_filmed(made: Planes, rgb: np.ndarray, before: np.ndarray, plate: Planes, colour: Colour) -> Planes:
    """The planes of a picture `rgb` (h, w, 3) with what its plate has over white and under black, which red, green and blue of the plate, `before`
    (h, w, 3), do not hold. Where nobody changed it, it is written with the codes that were filmed; where it was changed a little, as by the rim of a
    shadow, most of what was lost comes back: else a step would be seen there."""
    if made.bits != plate.bits or made.luma.shape != plate.luma.shape or rgb.shape != before.shape or rgb.dtype != before.dtype:
        return made
    found = Planes(made.luma.copy(), made.blue.copy(), made.red.copy(), made.bits)
    was = planes_of(before, colour, made.bits)
    _put_back(rgb, before, GONE * (1.0 if rgb.dtype == np.uint8 else 257.0), *plate[:3], *was[:3], 2**made.bits - 1, *found[:3])
    return found


@kernel
def _come_back(now, share, filmed, held, most):
    return int(min(max(now + share * (float(filmed) - float(held)), 0.0), most) + 0.5)


@parallel_kernel
def _put_back(rgb, before, gone, y0, b0, r0, y1, b1, r1, most, luma, blue, red):
    """Add to luma, blue and red what y0, b0, r0 were more than y1, b1, r1, by how little their pixels were changed."""
    height, width = luma.shape
    for pair in nb.prange(height // 2):
        row = np.int64(pair)
        least = np.ones(width)  # of the two rows of luma
        for dy in range(2):
            y = 2 * row + dy
            for x in range(width):
                change = 0.0
                for c in range(3):
                    change = max(change, abs(float(rgb[y, x, c]) - float(before[y, x, c])))
                share = max(1.0 - change / gone, 0.0)
                least[x] = min(least[x], share)
                if share > 0:
                    luma[y, x] = _come_back(luma[y, x], share, y0[y, x], y1[y, x], most)
        for column in range(width // 2):
            # a colour sample is the mean of two rows and of the columns at both of its sides
            share = min(least[max(2 * column - 1, 0)], least[2 * column], least[2 * column + 1])
            if share > 0:
                blue[row, column] = _come_back(blue[row, column], share, b0[row, column], b1[row, column], most)
                red[row, column] = _come_back(red[row, column], share, r0[row, column], r1[row, column], most)


def frame_from(planes: Planes) -> av.VideoFrame:
    """Planes of 8 or 10 bits for the encoder."""
    height, width = planes.luma.shape
    kind = np.uint8 if planes.bits == 8 else np.uint16
    frame = av.VideoFrame(width, height, "yuv420p" if planes.bits == 8 else "yuv420p10le")
    for plane, part in zip(frame.planes, planes[:3]):
        padded = np.zeros((plane.height, plane.line_size // part.itemsize), kind)
        padded[:, : part.shape[1]] = part
        plane.update(padded.tobytes())
    return frame
