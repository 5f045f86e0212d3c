"""What code values mean: primaries, transfer, matrix and range, and the way to linear light and back.

Light inside is linear, in the primaries of Rec.709, and 1 is what a white surface sends back. The names and numbers of what a
file can be tagged with are those of ITU-T H.273 (07/2021), tables 2 to 4.

Sources: ITU-R BT.709-6, 1.2; IEC 61966-2-1:1999 with the exact junctions 0.04045 and 0.0031308; ITU-R BT.2100-2, tables 4
(PQ) and 5 (HLG); ITU-R BT.2408-5, 2.2 (reference white: 203 cd/m2 in PQ, 75 % of an HLG signal); H.273 for the others. Rec.709
is inverted as defined (scene light), not through a display gamma, so that plate and letters meet in the light in which the
camera saw them; so is HLG. PQ is defined by what a display shows, which is taken for the light of the scene.
"""

import functools
import math

import msgspec
import numpy as np

from .jit import kernel

REC709, GAMMA22, GAMMA28, SMPTE240, LINEAR, LOG100, LOG316, SRGB, PQ, ST428, HLG = 1, 4, 5, 7, 8, 9, 10, 13, 16, 17, 18
TRANSFERS = {
    "rec709": REC709,
    "gamma22": GAMMA22,
    "gamma28": GAMMA28,
    "smpte240m": SMPTE240,
    "linear": LINEAR,
    "log100": LOG100,
    "log316": LOG316,
    "srgb": SRGB,
    "pq": PQ,
    "st428": ST428,
    "hlg": HLG,
}
# 6, 14 and 15 are the curve of Rec.709 under other names, 11 and 12 that curve with an extended range
_TRANSFER_TAGS = {number: name for name, number in TRANSFERS.items()} | {n: "rec709" for n in (6, 11, 12, 14, 15)}
MATRICES = {"rgb": 0, "bt709": 1, "bt601": 6, "smpte240m": 7, "bt2020": 9}
_MATRIX_TAGS = {number: name for name, number in MATRICES.items()} | {5: "bt601"}
D65, C, DCI, E = (0.3127, 0.3290), (0.310, 0.316), (0.314, 0.351), (1 / 3, 1 / 3)
# name -> number of the tag, x and y of red, green, blue and white
PRIMARIES = {
    "bt709": (1, (0.640, 0.330), (0.300, 0.600), (0.150, 0.060), D65),
    "bt470m": (4, (0.67, 0.33), (0.21, 0.71), (0.14, 0.08), C),
    "bt470bg": (5, (0.64, 0.33), (0.29, 0.60), (0.15, 0.06), D65),
    "smpte170m": (6, (0.630, 0.340), (0.310, 0.595), (0.155, 0.070), D65),
    "film": (8, (0.681, 0.319), (0.243, 0.692), (0.145, 0.049), C),
    "bt2020": (9, (0.708, 0.292), (0.170, 0.797), (0.131, 0.046), D65),
    "dci-p3": (11, (0.680, 0.320), (0.265, 0.690), (0.150, 0.060), DCI),
    "display-p3": (12, (0.680, 0.320), (0.265, 0.690), (0.150, 0.060), D65),
}
_PRIMARY_TAGS = {one[0]: name for name, one in PRIMARIES.items()} | {7: "smpte170m"}
# cone responses, by which white is adapted to white: K. M. Lam, 1985 ('Bradford')
_BRADFORD = np.array([[0.8951, 0.2664, -0.1614], [-0.7502, 1.7135, 0.0367], [0.0389, -0.0685, 1.0296]])

_HLG_A = 0.17883277
_HLG_B, _HLG_C = 1 - 4 * _HLG_A, 0.5 - _HLG_A * math.log(4 * _HLG_A)
_HLG_WHITE = (math.exp((0.75 - _HLG_C) / _HLG_A) + _HLG_B) / 12
_PQ_WHITE = 203.0 / 10000.0
_M1, _M2, _C1, _C2, _C3 = 2610 / 16384, 2523 / 4096 * 128, 3424 / 4096, 2413 / 4096 * 32, 2392 / 4096 * 32


class Colour(msgspec.Struct, frozen=True):
    """How code values are to be read: names of PRIMARIES, TRANSFERS and MATRICES; full_range: whether they use the whole scale."""

    primaries: str = "bt709"
    transfer: str = "rec709"
    matrix: str = "bt709"
    full_range: bool = False


SRGB_PICTURE = Colour("bt709", "srgb", "rgb", True)
LINEAR_PICTURE = Colour("bt709", "linear", "rgb", True)


def from_tags(tags: tuple[int, int, int, int], guess: Colour) -> tuple[Colour, tuple[str, ...]]:
    """What the numbers of H.273 in a file say (primaries, transfer, matrix, and range: 2 for full, 1 for limited, else untold), with
    `guess` for what they do not say or what is not known here; and the names of what was guessed."""
    primaries, transfer, matrix, range_ = tags
    named = (_PRIMARY_TAGS.get(primaries), _TRANSFER_TAGS.get(transfer), _MATRIX_TAGS.get(matrix), {1: False, 2: True}.get(range_))
    fields = ("primaries", "transfer", "matrix", "full_range")
    known = {field: value for field, value in zip(fields, named) if value is not None}
    # an RGB file has no matrix to tell
    unsaid = tuple(f for f in fields[:3] if f not in known and not (f == "matrix" and guess.matrix == "rgb"))
    return msgspec.structs.replace(guess, **known), unsaid


def tags_of(colour: Colour) -> tuple[int, int, int, int]:
    """Primaries, transfer, matrix and range as the numbers of H.273 (range: 2 full, 1 limited)."""
    return PRIMARIES[colour.primaries][0], TRANSFERS[colour.transfer], MATRICES[colour.matrix], 2 if colour.full_range else 1


# primaries --------------------------------------------------------------------------------------------------------------------


def _xyz(x: float, y: float) -> np.ndarray:
    return np.array([x / y, 1.0, (1 - x - y) / y])


@functools.cache
def to_xyz(primaries: str) -> np.ndarray:
    """(3, 3) linear RGB to CIE XYZ with white adapted to D65. Source: SMPTE RP 177-1993."""
    _, r, g, b, white = PRIMARIES[primaries]
    columns = np.stack([_xyz(*r), _xyz(*g), _xyz(*b)], 1)
    m = columns * np.linalg.solve(columns, _xyz(*white))
    if white == D65:
        return m
    have, want = _BRADFORD @ _xyz(*white), _BRADFORD @ _xyz(*D65)
    return np.linalg.solve(_BRADFORD, np.diag(want / have)) @ _BRADFORD @ m


@functools.cache
def from_working(primaries: str) -> np.ndarray | None:
    """(3, 3) light inside to light in these primaries; None where they are the same."""
    return None if primaries == "bt709" else np.linalg.solve(to_xyz(primaries), to_xyz("bt709"))


def in_primaries(light: np.ndarray, primaries: str) -> np.ndarray:
    """(..., 3) light inside, in these primaries; what they cannot show is nearest to it, at 0."""
    m = from_working(primaries)
    return light if m is None else np.maximum(light @ m.T.astype(np.float32), 0)


def in_working(light: np.ndarray, primaries: str) -> np.ndarray:
    """(..., 3) light in these primaries, in those that are used inside."""
    m = from_working(primaries)
    return light if m is None else light @ np.linalg.inv(m).T.astype(np.float32)


# transfer ---------------------------------------------------------------------------------------------------------------------


@kernel
def to_light(x, curve):
    """Linear light of one code value, 0..1 nominal."""
    if curve == REC709:
        return x / 4.5 if x < 0.081 else ((x + 0.099) / 1.099) ** (1 / 0.45)
    if curve == SRGB:
        return x / 12.92 if x <= 0.04045 else ((x + 0.055) / 1.055) ** 2.4
    if curve == LINEAR:
        return x
    x = max(x, 0.0)
    if curve == HLG:
        return (x * x / 3 if x <= 0.5 else (math.exp((x - _HLG_C) / _HLG_A) + _HLG_B) / 12) / _HLG_WHITE
    if curve == PQ:
        p = min(x, 1.0) ** (1 / _M2)
        return (max(p - _C1, 0.0) / (_C2 - _C3 * p)) ** (1 / _M1) / _PQ_WHITE
    if curve == GAMMA22:
        return x**2.2
    if curve == GAMMA28:
        return x**2.8
    if curve == SMPTE240:
        return x / 4.0 if x < 0.0912 else ((x + 0.1115) / 1.1115) ** (1 / 0.45)
    if curve == LOG100:
        return 10 ** (2 * (x - 1)) if x > 0 else 0.0
    if curve == LOG316:
        return 10 ** (2.5 * (x - 1)) if x > 0 else 0.0
    return x**2.6 * (52.37 / 48.0)


@kernel
def to_code(x, curve):
    """The code value, 0..1 nominal, of linear light."""
    if curve == REC709:
        x = max(x, 0.0)
        return 4.5 * x if x < 0.018 else 1.099 * x**0.45 - 0.099
    if curve == SRGB:
        x = max(x, 0.0)
        return 12.92 * x if x <= 0.0031308 else 1.055 * x ** (1 / 2.4) - 0.055
    x = max(x, 0.0)
    if curve == LINEAR:
        return x
    if curve == HLG:
        e = x * _HLG_WHITE
        return math.sqrt(3 * e) if e <= 1 / 12 else _HLG_A * math.log(12 * e - _HLG_B) + _HLG_C
    if curve == PQ:
        p = min(x * _PQ_WHITE, 1.0) ** _M1
        return ((_C1 + _C2 * p) / (1 + _C3 * p)) ** _M2
    if curve == GAMMA22:
        return x ** (1 / 2.2)
    if curve == GAMMA28:
        return x ** (1 / 2.8)
    if curve == SMPTE240:
        return 4.0 * x if x < 0.0228 else 1.1115 * x**0.45 - 0.1115
    if curve == LOG100:
        return 1 + math.log10(x) / 2 if x >= 0.01 else 0.0
    if curve == LOG316:
        return 1 + math.log10(x) / 2.5 if x >= math.sqrt(10.0) / 1000 else 0.0
    return (x * 48.0 / 52.37) ** (1 / 2.6)


@kernel
def _decode(codes, curve, out):
    for i in range(len(codes)):
        out[i] = to_light(codes[i], curve)


@kernel
def _encode(light, curve, out):
    for i in range(len(light)):
        out[i] = to_code(light[i], curve)


def _each(run, values: np.ndarray, transfer: str) -> np.ndarray:
    if transfer not in TRANSFERS:
        raise ValueError(f"transfer must be one of {tuple(TRANSFERS)}, got {transfer!r}")
    x = np.asarray(values, np.float64)  # at its junction a curve of the standards may jump: the side of it must not be rounded
    out = np.empty(x.size, np.float32)
    run(x.ravel(), TRANSFERS[transfer], out)
    return out.reshape(x.shape)


def decode(code: np.ndarray, transfer: str) -> np.ndarray:
    """Code values to linear light, elementwise. Raises ValueError for an unknown transfer."""
    return _each(_decode, code, transfer)


def encode(linear: np.ndarray, transfer: str) -> np.ndarray:
    """Linear light to code values, elementwise. Raises ValueError for an unknown transfer."""
    return _each(_encode, linear, transfer)
