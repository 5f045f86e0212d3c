"""Where samples lie: Sobol's sequence, scrambled after Owen, in pairs of dimensions.

Light directions are those of a block of 8 x 8 pixels, the same for all blocks, so that a filter of that width leaves no noise (A.
Keller and W. Heidrich, Interleaved Sampling, EGWR 2001): in each round of samples those of a pixel are even, and so are those of
each 2 x 2, 4 x 4 and 8 x 8 pixels together. Places in the pixel and moments of the exposure are each pixel's own.
"""

import functools
from typing import NamedTuple

import numpy as np

BLOCK = 8  # px
FIRST_ROUND = 2  # samples; each round after the second has as many as all before it
# pairs of dimensions: the place in the pixel, the moment, the sky, mirrors, suns, lamps that are near, what is all around, the lens
PAIRS = 12
TURNING, TURNED_PAIRS = 2, 11  # pairs from the one to before the other are of directions
PLACES, LENS = 5, 3  # columns of the first table: across, down, moment, place on the lens, as fractions of 2 ** 32
# columns of the second: a direction of the sky round z, evenly by its cosine; two numbers for mirrors; for each sun, one that is even in
# 0..1, and a place on the unit circle; for lamps that are near, one number that chooses and two for a place on the one that is chosen; two for
# a direction of what is all around
SKY, MIRROR, SUN, SUNS = 0, 3, 5, 4
LAMP = SUN + 3 * SUNS
AROUND = LAMP + 3
TURNS = AROUND + 2


def _reversed_bits(v: np.ndarray) -> np.ndarray:
    v = ((v >> 1) & 0x55555555) | ((v & 0x55555555) << 1)
    v = ((v >> 2) & 0x33333333) | ((v & 0x33333333) << 2)
    v = ((v >> 4) & 0x0F0F0F0F) | ((v & 0x0F0F0F0F) << 4)
    v = ((v >> 8) & 0x00FF00FF) | ((v & 0x00FF00FF) << 8)
    return ((v >> 16) | (v << 16)) & 0xFFFFFFFF


def scrambled(v: np.ndarray, seed: int) -> np.ndarray:
    """Owen's nested scrambling of 32-bit fractions, by a hash. Source: B. Burley, Practical Hash-based Owen Scrambling, JCGT 2020."""
    seed &= 0xFFFFFFFF
    v = _reversed_bits(v)
    v = (v + seed) & 0xFFFFFFFF
    for factor in (0x6C50B47C, 0xB82F1E52, 0xC7AFE638, 0x8D22F6E6):
        v ^= (v * factor) & 0xFFFFFFFF
    return _reversed_bits(v)


def sobol(index: np.ndarray, dimension: int) -> np.ndarray:
    """32-bit fractions of one of the first three dimensions of I. M. Sobol's sequence (1967): van der Corput's, Pascal's matrix, and that of x² + x + 1.
    Source: S. Joe, F. Kuo, Constructing Sobol sequences with better two-dimensional projections, SIAM J. Sci. Comput. 30, 2008."""
    if dimension == 0:
        return _reversed_bits(index)
    numbers = [1, 3]
    while len(numbers) < 32:
        numbers.append(2 * numbers[-1] ^ (numbers[-1] if dimension == 1 else 4 * numbers[-2] ^ numbers[-2]))
    result = np.zeros_like(index)
    for bit, number in enumerate(numbers):
        result ^= np.where((index >> bit) & 1, number << 31 - bit, 0)
    return result


class Table(NamedTuple):
    """places (count, BLOCK * BLOCK, PLACES) uint32 and turns (count, BLOCK * BLOCK, TURNS) float32, for each pixel of a block."""

    places: np.ndarray
    turns: np.ndarray


@functools.lru_cache(maxsize=4)
def samples(count: int) -> Table:
    """The samples of each pixel of a block."""
    even = _pairs(count)
    unit = even / 2.0**32
    turns = np.zeros((BLOCK * BLOCK, count, TURNS), np.float32)
    r, angle = np.sqrt(unit[:, :, 2, 0]), 2 * np.pi * unit[:, :, 2, 1]
    turns[..., SKY : SKY + 3] = np.stack([r * np.cos(angle), r * np.sin(angle), np.sqrt(1 - r * r)], -1)
    turns[..., MIRROR : MIRROR + 2] = unit[:, :, 3]
    for k in range(SUNS):
        angle = 2 * np.pi * unit[:, :, 4 + k, 1]
        turns[..., SUN + 3 * k : SUN + 3 * k + 3] = np.stack([unit[:, :, 4 + k, 0], np.cos(angle), np.sin(angle)], -1)
    turns[..., LAMP] = unit[:, :, 4 + SUNS, 0]
    turns[..., LAMP + 1 : LAMP + 3] = unit[:, :, 5 + SUNS]
    turns[..., AROUND : AROUND + 2] = unit[:, :, 6 + SUNS]
    places = np.concatenate([even[:, :, 0], even[:, :, 1, :1], even[:, :, TURNED_PAIRS]], -1)
    return Table(*(np.ascontiguousarray(a.swapaxes(0, 1)) for a in (places.astype(np.uint32), turns)))


def rounds(count: int) -> list[tuple[int, int]]:
    """First and last sample of each round: the halves of all that were taken at its end are pictures that know nothing of each other."""
    found, done = [], 0
    while done < count:
        until = min(max(2 * done, FIRST_ROUND), count)
        found.append((done, until))
        done = until
    return [(0, 1), (1, 2), *found[1:]] if count >= FIRST_ROUND else found


def _pairs(count: int) -> np.ndarray:
    """(BLOCK * BLOCK, count, PAIRS, 2) fractions of 2 ** 32, for each pixel of a block."""
    result = np.zeros((BLOCK * BLOCK, count, PAIRS, 2), np.int64)
    index = np.arange(count, dtype=np.int64)
    other = _in_other_order(index, 1)
    # of these each pixel has its own, by what is added to them; the moment is even together with the place: what moves is an edge over both
    for pair, k, dimension, order in ((0, 0, 0, index), (0, 1, 1, index), (1, 0, 2, index), (TURNED_PAIRS, 0, 0, other), (TURNED_PAIRS, 1, 1, other)):
        result[:, :, pair, k] = scrambled(sobol(order, dimension), 0x3C6EF372 * (2 * pair + k + 1))
    places = _along_z(*np.divmod(np.arange(BLOCK * BLOCK, dtype=np.int64), BLOCK)[::-1])[:, None]
    for number, (first, last) in enumerate(rounds(count)):
        # those of a pixel follow each other, then those of its neighbours: each run of 2 ** k of them is even
        index = np.arange(last - first, dtype=np.int64) + places * (last - first)
        for pair in range(TURNING, TURNED_PAIRS):
            seed = (number * 0x9E3779B1 + pair * 0x85EBCA6B + 0x7F4A7C15) & 0xFFFFFFFF
            own = _in_other_order(index, seed)
            for k in (0, 1):
                result[:, first:last, pair, k] = scrambled(sobol(own, k), (seed * (2 * k + 3)) ^ 0x5851F42D)
    return result


def _in_other_order(index: np.ndarray, seed: int) -> np.ndarray:
    """The places in the sequence where a pair of dimensions takes its samples. Each pair goes through it in an order of its own, or the pairs would tell of
    each other, however they are scrambled; each aligned run of 2 ** k places stays one, and even. Source: B. Burley, as of `scrambled`."""
    mixed = (seed ^ (seed >> 15)) * 0x2C1B3C6D & 0xFFFFFFFF
    return scrambled(index, (mixed ^ (mixed >> 12)) * 0x297A2D39)


def _along_z(x: np.ndarray, y: np.ndarray) -> np.ndarray:
    """The numbers of places in Morton's order: 2 x 2, then 4 x 4, then 8 x 8."""
    return np.sum([((x >> bit) & 1) << 2 * bit | ((y >> bit) & 1) << 2 * bit + 1 for bit in range(3)], axis=0)
