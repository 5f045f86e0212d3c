"""Pictures that are laid over surfaces again and again: a patch of a plate made straight, even and endless, a picture of a file, or a map of how high
or rough it is; packed as bytes."""

import contextlib
import functools
import io
import math

import cv2
import numpy as np
from PIL import Image, UnidentifiedImageError

from ..basics.colour import encode
from ..basics.errors import PlateError

LEAST_PX, MOST_PX, MOST_FILE_PX = 64, 512, 1024  # a side of a patch of a plate, and of a file
OFF_UNIT = 0.06  # by which the colours of a normal map may miss the length of 1, as packed in 8 bits
STEEPEST = 0.05  # the least part of a normal that looks straight out
QUALITY = 92  # of JPEG
EVEN_SHARE = 0.22  # of its side: light that changes over more than that is of lamps, not of the surface
BRIGHTNESS = np.array([0.2126, 0.7152, 0.0722], np.float32)  # ITU-R BT.709


def straightened(light: np.ndarray, corners: np.ndarray) -> np.ndarray:
    """(n, n, 3) the part of a picture (h, w, 3) inside four corners (4, 2) px, from the top left clockwise, as seen straight on. n is as many px
    as its longest side has."""
    corners = np.asarray(corners, np.float32)
    sides = np.linalg.norm(corners - np.roll(corners, 1, 0), axis=1)
    n = int(np.clip(round(float(sides.max())), LEAST_PX, MOST_PX))
    own = np.array([[-0.5, -0.5], [n - 0.5, -0.5], [n - 0.5, n - 0.5], [-0.5, n - 0.5]], np.float32)
    found = cv2.warpPerspective(light, cv2.getPerspectiveTransform(corners, own), (n, n), flags=cv2.INTER_LINEAR, borderMode=cv2.BORDER_REFLECT)
    return np.maximum(found, 0)


def evenly_lit(light: np.ndarray) -> np.ndarray:
    """(n, n, 3) a patch without slow changes of its brightness; its mean stays."""
    slow = cv2.GaussianBlur(light @ BRIGHTNESS, (0, 0), EVEN_SHARE * light.shape[0], borderType=cv2.BORDER_REFLECT)
    return light * (slow.mean() / np.maximum(slow, 1e-6))[..., None]


def endless(patch: np.ndarray) -> np.ndarray:
    """(n, n, 3) a patch that goes on over its edges: along each way it is blended with itself, shifted by half, so that each hides the seam of
    the other; contrast is kept. Source of the weights: E. Heitz, F. Neyret, High-Performance By-Example Noise using a
    Histogram-Preserving Blending Operator, HPG 2018."""
    mean = patch.mean((0, 1))
    found = patch - mean
    n = patch.shape[0]
    weight = np.sin(np.pi * (np.arange(n) + 0.5) / n) ** 2
    for axis, w in ((1, weight[None, :, None]), (0, weight[:, None, None])):
        found = (w * found + (1 - w) * np.roll(found, n // 2, axis)) / np.sqrt(w * w + (1 - w) ** 2)
    return np.maximum(found + mean, 0).astype(np.float32)


def packed(light: np.ndarray) -> bytes:
    """JPEG, sRGB, of linear light (h, w, 3), white 1."""
    codes = np.rint(np.clip(encode(np.ascontiguousarray(light, np.float32), "srgb"), 0, 1) * 255).astype(np.uint8)
    done, data = cv2.imencode(".jpg", codes[..., ::-1], [cv2.IMWRITE_JPEG_QUALITY, QUALITY])
    if not done:
        raise ValueError("the picture could not be packed")
    return data.tobytes()


def _decoded(data: bytes, how: int) -> np.ndarray:
    """As cv2.imdecode. Raises PlateError where it is no picture."""
    picture = None
    with contextlib.suppress(UnidentifiedImageError, OSError, ValueError, SyntaxError, EOFError, cv2.error):
        # by its head alone: a few bytes can ask for any amount of memory
        if max(Image.open(io.BytesIO(data)).size) <= 2 * MOST_FILE_PX:
            picture = cv2.imdecode(np.frombuffer(data, np.uint8), how)
    if picture is None:
        raise PlateError("The picture of a surface cannot be read.", "Choose it again; the rest of the shot is kept.")
    return picture


@functools.lru_cache(maxsize=16)
def unpacked(data: bytes) -> np.ndarray:
    """(h, w, 4) uint8, straight alpha, code values of sRGB. Raises PlateError where it is no picture."""
    picture = _decoded(data, cv2.IMREAD_COLOR)
    found = np.dstack([picture[..., ::-1], np.full(picture.shape[:2], 255, np.uint8)])
    found.flags.writeable = False
    return found


def smaller(codes: np.ndarray) -> np.ndarray:
    """A picture (h, w, 3) at the size that is kept of a file."""
    most = max(codes.shape[:2])
    if most <= MOST_FILE_PX:
        return codes
    size = tuple(max(round(side * MOST_FILE_PX / most), 1) for side in codes.shape[1::-1])
    return np.asarray(cv2.resize(codes, size, interpolation=cv2.INTER_AREA), codes.dtype)


def packed_map(heights: np.ndarray) -> bytes:
    """PNG of 16 bits of a map (h, w), 0 to 1."""
    done, data = cv2.imencode(".png", np.rint(np.clip(heights, 0, 1) * 65535).astype(np.uint16))
    if not done:
        raise ValueError("the map could not be packed")
    return data.tobytes()


@functools.lru_cache(maxsize=16)
def unpacked_maps(relief: bytes, roughness: bytes) -> np.ndarray:
    """(h, w, 2) uint16: how high, and how rough; of one that is not there the other way round. Raises PlateError where one is no picture."""
    found = []
    for data in (relief, roughness):
        if data:
            codes = _decoded(data, cv2.IMREAD_GRAYSCALE | cv2.IMREAD_ANYDEPTH)
            found.append(codes if codes.dtype == np.uint16 else codes.astype(np.uint16) * 257)
    h, w = max((one.shape for one in found), key=math.prod)
    found = [cv2.resize(one, (w, h), interpolation=cv2.INTER_LINEAR) if one.shape != (h, w) else one for one in found]
    maps = np.dstack([found[0], found[-1]])
    maps.flags.writeable = False
    return maps


def normals_of(codes: np.ndarray) -> np.ndarray | None:
    """(h, w, 3) the unit normals that a normal map (h, w, 3), codes 0..1, says; None where its colours are not those of normals."""
    n = 2 * np.asarray(codes, np.float64) - 1
    length = np.linalg.norm(n, axis=2)
    if np.median(np.abs(length - 1)) > OFF_UNIT or n[..., 2].mean() < 0.5:
        return None
    return np.asarray(n / np.maximum(length, 1e-6)[..., None])


def heights_of_normals(normals: np.ndarray) -> np.ndarray:
    """(h, w) the heights, in px, whose slopes fit best to normals (h, w, 3) that are repeated endlessly; x to the right, y up or down: the way is taken
    in which they are nearer to those of any surface. Source: R. Frankot, R. Chellappa, A Method for Enforcing Integrability, IEEE PAMI 10, 1988."""
    z = np.maximum(normals[..., 2], STEEPEST)
    p, q = -normals[..., 0] / z, normals[..., 1] / z  # per px to the right and down, where y is up
    u = 2j * np.pi * np.fft.fftfreq(p.shape[1])[None, :]
    v = 2j * np.pi * np.fft.fftfreq(p.shape[0])[:, None]
    fp, fq = np.fft.fft2(p), np.fft.fft2(q)
    curl = lambda sign: float((np.abs(v * fp - sign * u * fq) ** 2).sum())
    sign = 1.0 if curl(1.0) <= curl(-1.0) else -1.0
    size = np.abs(u) ** 2 + np.abs(v) ** 2
    size[0, 0] = 1.0
    fz = (np.conj(u) * fp + sign * np.conj(v) * fq) / size
    fz[0, 0] = 0.0
    return np.real(np.fft.ifft2(fz))
