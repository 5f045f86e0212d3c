"""The grain of a clip: how strong it is by brightness and how it lies over px, read from its flattest places, and grain of that kind made anew."""

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
from scipy.fft import irfft2, rfft2

from ..basics.geometry import F64

BLOCK_PX, MOST_BLOCKS = 16, 2500  # a side of the squares that are looked at, and how many of a picture
REACH_PX = 5  # over which grain of one px may tell of that of another: coded clips have grain coarser than a px
BINS, LEAST_BLOCKS = 8, 40  # of brightness, each with as many blocks; so few of them tell nothing
FLATTEST = 0.1  # of a bin: the blocks with the least variance, which hold grain and hardly anything else
OF_FLATTEST = 0.8  # their mean variance over that of all, were there grain alone (chi square with some 150 degrees of freedom)
TOO_MUCH = 1.6  # times what the others say: a bin in which even the flattest blocks have texture
DARKEST, BRIGHTEST = 0.002, 0.9  # of light: beyond these values are cut off, and grain with them
LEAST = 1e-4  # of light: what changes by less is the rounding of numbers, no grain
TILE_PX = 256


class Grain(NamedTuple):
    """base, by_light (3,): the variance of a channel's light is base + by_light * light, in linear light of the plate's primaries (the noise of a sensor:
    of its reading and of light itself). amplitude (3, TILE_PX, TILE_PX / 2 + 1): by which white noise is taken at each frequency of a tile, so that grain of
    neighbours goes together as it does in the clip, of three mixed channels; mix (3, 3): from those to red, green, blue of variance 1."""

    base: F64
    by_light: F64
    amplitude: np.ndarray
    mix: np.ndarray


def blocks_of(picture: np.ndarray) -> np.ndarray:
    """(n, BLOCK_PX², 3) squares from all over a picture (h, w, 3) of linear light, MOST_BLOCKS or less."""
    h, w = (side // BLOCK_PX for side in picture.shape[:2])
    cut = np.moveaxis(picture[: h * BLOCK_PX, : w * BLOCK_PX].reshape(h, BLOCK_PX, w, BLOCK_PX, 3), 2, 1)
    every = max(-(-h * w // MOST_BLOCKS), 1)
    rows, columns = np.divmod(np.arange(0, h * w, every), max(w, 1))
    return np.ascontiguousarray(cut[rows, columns].reshape(-1, BLOCK_PX**2, 3), np.float32)


def measured_grain(squares: Sequence[np.ndarray]) -> Grain | None:
    """From `blocks_of` some pictures of one clip; None where no place is flat or there is no grain.

    Source of the model: A. Foi et al., Practical Poissonian-Gaussian Noise Modeling and Fitting for Single-Image Raw-Data, IEEE TIP 2008.
    """
    blocks = np.concatenate(
        [part[((part > DARKEST) & (part < BRIGHTEST)).all((1, 2))] for part in (np.zeros((0, BLOCK_PX**2, 3), np.float32), *squares)]
    )
    if len(blocks) < LEAST_BLOCKS:
        return None
    mean = blocks.mean(1)
    rest = _without_slopes(blocks)
    variance = (rest * rest).mean(1) * BLOCK_PX**2 / (BLOCK_PX**2 - 6)
    order = np.argsort(mean.mean(1), kind="stable")
    chosen, levels, found = [], [], []
    for part in np.array_split(order, min(BINS, len(order) // LEAST_BLOCKS)):
        flat = part[np.argsort(variance[part].mean(1), kind="stable")[: max(int(FLATTEST * len(part)), 4)]]
        chosen.append(flat)
        levels.append(mean[flat].mean(0))
        found.append(variance[flat].mean(0) / OF_FLATTEST)
    lines = [_line(np.array(levels)[:, c], np.array(found)[:, c]) for c in range(3)]
    base, by_light = (np.array(v) for v in zip(*lines))
    # of a bin with texture nothing is learned of how grain lies over px
    said = base + np.array(levels) * by_light
    flat = np.concatenate([part for part, of_bin, line in zip(chosen, found, said) if (of_bin <= TOO_MUCH * line + 1e-12).all()] or chosen)
    scale = np.sqrt(base + mean[flat, None] * by_light)
    if not (scale > LEAST).all():
        return None
    return Grain(base, by_light, *_spread(rest[flat] / scale))


def grain_tile(grain: Grain, seed: tuple[int, ...]) -> np.ndarray:
    """(TILE_PX, TILE_PX, 3) float32 grain of variance 1, that goes on over its edges; the same for the same seed.

    Source: random phase noise with a given spectrum, B. Galerne, Y. Gousseau, J.-M. Morel, Random Phase Textures, IEEE TIP 2011.
    """
    white = np.random.default_rng(seed).standard_normal((3, TILE_PX, TILE_PX), np.float32)
    mixed = irfft2(rfft2(white) * grain.amplitude, white.shape[1:])
    return np.ascontiguousarray(np.moveaxis(np.tensordot(grain.mix, mixed, 1), 0, -1))


def _without_slopes(blocks: np.ndarray) -> np.ndarray:
    """The blocks without the second-degree surface that fits each best: shading, no grain."""
    y, x = (np.mgrid[:BLOCK_PX, :BLOCK_PX].reshape(2, -1) - (BLOCK_PX - 1) / 2) / BLOCK_PX
    q, _ = np.linalg.qr(np.stack([np.ones_like(x), x, y, x * x, x * y, y * y], 1))
    q = q.astype(blocks.dtype)
    return np.asarray(blocks - q @ (q.T @ blocks))


def _line(light: F64, variance: F64) -> tuple[float, float]:
    """Base and slope, neither under 0, of the variance by light; without values that texture has raised."""
    kept = np.ones(len(light), bool)
    result = np.zeros(2)
    for _ in range(3):
        weight = 1 / np.maximum(variance[kept], 1e-12)
        terms, ones = np.stack([weight, light[kept] * weight], 1), np.ones(int(kept.sum()))
        result = np.linalg.lstsq(terms, ones, rcond=None)[0]
        if (result < 0).any():  # then the other alone
            own = int(result.argmin() == 0)
            result = np.zeros(2)
            result[own] = (terms[:, own] @ ones) / (terms[:, own] @ terms[:, own])
        less = variance <= TOO_MUCH * (result[0] + result[1] * light)
        if less.sum() < 2 or (less == kept).all():
            break
        kept = less
    return float(result[0]), float(result[1])


def _spread(unit: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """`amplitude` and `mix` of a Grain, from grain (n, BLOCK_PX², 3) of a variance of about 1."""
    covariance = np.einsum("npc,npd->cd", unit, unit, optimize=True) / (unit.shape[0] * unit.shape[1])
    size = np.sqrt(np.diag(covariance))
    values, vectors = np.linalg.eigh(covariance / np.outer(size, size))
    own = (unit / size) @ vectors
    fields = np.moveaxis(own.reshape(-1, BLOCK_PX, BLOCK_PX, 3), 3, 1)
    power = (np.abs(rfft2(fields, (2 * BLOCK_PX,) * 2)) ** 2).mean(0)
    # how grain at a px goes with that at others, as far as REACH_PX; 1 with itself
    lags = np.arange(-REACH_PX, REACH_PX + 1)
    overlap = np.outer(BLOCK_PX - np.abs(lags), BLOCK_PX - np.abs(lags))
    together = irfft2(power, (2 * BLOCK_PX,) * 2)[:, lags[:, None], lags] / overlap
    fade = 0.5 + 0.5 * np.cos(np.pi * lags / (REACH_PX + 1))
    around = np.zeros((3, TILE_PX, TILE_PX))
    own_variance = np.maximum(together[:, REACH_PX, REACH_PX], 1e-9)  # none in two of three channels of a black and white clip
    around[:, lags[:, None], lags] = together / own_variance[:, None, None] * np.outer(fade, fade)
    amplitude = np.sqrt(np.maximum(rfft2(around).real, 0))
    return amplitude.astype(np.float32), (vectors * np.sqrt(np.maximum(values, 0))).astype(np.float32)
