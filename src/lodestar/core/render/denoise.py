"""An edge-aware filter for light that was sampled: it takes what noise is left out of soft light, and leaves edges where they are.

A pixel is blended with those of the same plane whose light differs by no more than their noise explains: a sharp edge of a shadow,
which has next to no noise beside it, stays; a soft one becomes even. Source: the weights are those of F. Rousselle and others,
Adaptive Rendering with Non-Local Means Filtering, SIGGRAPH Asia 2012, for patches of one pixel; passes that reach farther and
farther, those of H. Dammertz and others, Edge-Avoiding A-Trous Wavelet Transform, HPG 2010, across and down in turn.
"""

import functools
from collections.abc import Callable
from typing import NamedTuple

import cv2
import numpy as np

from ..basics.jit import inlined, kernel, part, taken
from . import pool, vectors
from .rays import TILE, Film

# px down and across from one that is blended to the next, and how many on each side; the last counts half, so that each place of the block
# over which light directions are interleaved counts alike: 4 x 4 px after the first two passes, 8 x 8 after all
PASSES = ((0, 1, 2), (1, 0, 2), (0, 4, 1), (4, 0, 1))
ROWS = 16  # of a part that one thread takes at a time; a multiple of TILE
# all of these in single precision, which vectors of the processor hold twice as many of
QUIETER = np.float32(1 / 3)  # of squared noise, that a pass leaves
LIKE = np.float32(1 / 2.2**2)  # 1 over the squared number of noises by which two pixels may differ
FLAT, MANY_ROUND = np.float32(0.94), 5  # cosine between normals of one plane; px on the plane of one that is round it
LEAST_NOISE = np.float32(5e-4**2)  # squared; less is not worth a filter
OFF_PLANE = np.float32(1 / 0.01)  # 1 over the part of the size of our things that what is blended may lie off the plane of a pixel
TURNED = np.float32(1 / 0.06)  # 1 over 1 less the cosine of the angle between their normals: 20 degrees
RED, GREEN, BLUE = np.float32(vectors.RED), np.float32(vectors.GREEN), np.float32(vectors.BLUE)
NONE, QUARTER, HALF, ONE, TINY = (np.float32(x) for x in (0, 0.25, 0.5, 1, 1e-12))


class Sheet(NamedTuple):
    """One kind of light as planes (.., h, w) float32, which vectors of the processor run along. value (4): three colours and their brightness;
    weight: how much of the pixel they are of; guide (6): mean normal and place; noise: of the brightness, squared."""

    value: np.ndarray
    weight: np.ndarray
    guide: np.ndarray
    noise: np.ndarray


def smoothed(
    film: Film, spare: bool, check: Callable[[], None], room: Callable[[tuple[int, ...], type], np.ndarray]
) -> tuple[np.ndarray, np.ndarray]:
    """(3, h, w) each: what our things leave of the light on what receives it, and the even part of ours where they fill a pixel. A
    picture of one sample knows nothing of its noise: where light was hidden it is blurred within planes, and not as far. room(shape, kind): gives
    arrays of any content."""
    height, width = film.taken.shape
    parts = -(-height // ROWS)
    planes = lambda *deep: room((*deep, height, width), np.float32)
    sheets = place, ours = [Sheet(planes(4), planes(), planes(6), planes()) for _ in range(2)]
    pool.spread(lambda next_: spread_out(film, place, ours, next_, parts), parts, spare, check)
    # that of one tile says little; that of a single px counts all the same, where it is more
    around = lambda sheet: np.maximum(sheet.noise, cv2.blur(sheet.noise, (3 * TILE, 3 * TILE)), out=sheet.noise)
    pool.each(around, sheets, spare, check)
    guessed = bool(film.taken[0, 0] == 1)
    values, quiet = (place.value, ours.value), ONE
    if not guessed:
        values = place.value, planes(4)
        pool.spread(lambda next_: without_dots(ours, values[1], next_, parts), parts, spare, check)
    for down, across, reach in PASSES[: 2 if guessed else 4]:
        into = planes(4), planes(4)
        one_pass = functools.partial(blend, place, ours, values, into, down, across, reach, quiet, guessed)
        pool.spread(lambda next_, one_pass=one_pass: one_pass(next_, parts), 2 * parts, spare, check)  # type: ignore[misc]
        values, quiet = into, np.float32(quiet * QUIETER)
    return values[0][:3], values[1][:3]


@kernel
def spread_out(film, place, ours, next_, parts):
    """A film as sheets: shade and light on what receives it, and what is even in ours; by parts of ROWS, whose numbers are taken from next_."""
    while True:
        part = taken(next_)
        if part >= parts:
            break
        _spread_rows(film, part * ROWS, min((part + 1) * ROWS, film.lit.shape[0]), place, ours)


@inlined
def _spread_rows(film, first, last, place, ours):
    w = film.lit.shape[1]
    for y in range(first, last):
        for x in range(w):
            alpha = film.colour[y, x, 3]
            for c in range(3):
                place.value[c, y, x] = film.lit[y, x, c] / film.bare[y, x, c] if film.bare[y, x, c] > 0 else ONE
                ours.value[c, y, x] = film.soft[y, x, c] / alpha if alpha > 0 else NONE
            place.value[3, y, x] = RED * place.value[0, y, x] + GREEN * place.value[1, y, x] + BLUE * place.value[2, y, x]
            ours.value[3, y, x] = RED * ours.value[0, y, x] + GREEN * ours.value[1, y, x] + BLUE * ours.value[2, y, x]
            place.weight[y, x] = RED * film.bare[y, x, 0] + GREEN * film.bare[y, x, 1] + BLUE * film.bare[y, x, 2]
            ours.weight[y, x] = alpha
            place.noise[y, x], ours.noise[y, x] = film.noise[y, x, 1], film.noise[y, x, 0]
            _guide(film.place, place.guide, y, x)
            _guide(film.ours, ours.guide, y, x)


@inlined
def _guide(seen, guide, y, x):
    """Sums of normals and places become means."""
    w = ONE / max(seen[y, x, 6], TINY)
    for k in range(6):
        guide[k, y, x] = seen[y, x, k] * w


@kernel
def without_dots(sheet, into, next_, parts):
    """A sheet in which no pixel is brighter, or darker, than all that lie round it on its plane, by more than their noise: one that rare samples made so is
    like none of them, and would be left as it is. By parts of ROWS, whose numbers are taken from next_."""
    while True:
        part = taken(next_)
        if part >= parts:
            break
        _without_dots_rows(sheet, into, part * ROWS)


@inlined
def _is_dot(sheet, y, x, i, j, sign):
    """Whether a pixel is brighter (sign 1) or darker (-1) than another by more than the noise of both."""
    apart = sign * (sheet.value[3, y, x] - sheet.value[3, i, j])
    return apart > NONE and apart * apart > sheet.noise[y, x] + sheet.noise[i, j]


@part
def _without_dots_rows(sheet, into, first):
    h, w = sheet.weight.shape
    value, g = sheet.value, sheet.guide
    for y in range(first, min(first + ROWS, h)):
        for x in range(w):
            from_y, from_x = y, x
            if sheet.noise[y, x] > LEAST_NOISE and sheet.weight[y, x] > NONE:
                near, darker_y, darker_x, brighter_y, brighter_x = 0, y, x, y, x
                for i in range(max(y - 1, 0), min(y + 2, h)):
                    for j in range(max(x - 1, 0), min(x + 2, w)):
                        both = g[0, y, x] * g[0, i, j] + g[1, y, x] * g[1, i, j] + g[2, y, x] * g[2, i, j]
                        if (i == y and j == x) or sheet.weight[i, j] <= NONE or both < FLAT:
                            continue
                        if near == 0 or value[3, i, j] < value[3, darker_y, darker_x]:
                            darker_y, darker_x = i, j
                        if near == 0 or value[3, i, j] > value[3, brighter_y, brighter_x]:
                            brighter_y, brighter_x = i, j
                        near += 1
                if near >= MANY_ROUND and _is_dot(sheet, y, x, darker_y, darker_x, -ONE):
                    from_y, from_x = darker_y, darker_x
                elif near >= MANY_ROUND and _is_dot(sheet, y, x, brighter_y, brighter_x, ONE):
                    from_y, from_x = brighter_y, brighter_x
            for c in range(4):
                into[c, y, x] = value[c, from_y, from_x]


@kernel
def blend(place, ours, values, into, down, across, reach, quiet, guessed, next_, parts):
    """One pass over both sheets, see PASSES, by parts of ROWS, whose numbers are taken from next_; quiet: what share of the first squared noise is
    left."""
    sums = np.empty((5, place.weight.shape[1]), np.float32)
    while True:
        part = taken(next_)
        if part >= 2 * parts:
            break
        first = part % parts * ROWS
        if part < parts:
            _blend_rows(place, values[0], into[0], sums, first, down, across, reach, quiet, guessed)
        else:
            _blend_rows(ours, values[1], into[1], sums, first, down, across, reach, quiet, guessed)


@part
def _blend_rows(sheet, value, into, sums, first, down, across, reach, quiet, guessed):
    h, w = sheet.weight.shape
    last = min(first + ROWS, h)
    for y in range(first, last):
        busy = False
        for x in range(w):
            busy = busy or (sheet.noise[y, x] > LEAST_NOISE and sheet.weight[y, x] > NONE)
            for c in range(4):
                into[c, y, x] = value[c, y, x]
        if not busy:
            continue
        sums[:] = NONE
        for k in range(-reach, reach + 1):
            i, off = y + k * down, k * across
            if 0 <= i < h:
                _add(sheet, value, sums, y, i, max(0, -off), min(w, w - off), off, HALF if abs(k) == reach else ONE, quiet, guessed)
        for x in range(w):
            if sheet.noise[y, x] > LEAST_NOISE and sums[3, x] > NONE:
                k = ONE / sums[3, x]
                a, b, c = sums[0, x] * k, sums[1, x] * k, sums[2, x] * k
                into[0, y, x], into[1, y, x], into[2, y, x], into[3, y, x] = a, b, c, RED * a + GREEN * b + BLUE * c


@inlined
def _add(sheet, value, sums, y, i, first, last, off, share, quiet, guessed):
    """Add to the sums of px first to last of row y what is blended from row i, `off` px across."""
    # rows from a first element on: only so do vectors of the processor run along them (more than twice as quick, measured)
    here, there = slice(first, last), slice(first + off, last + off)
    g = sheet.guide
    n0, n1, n2, p0, p1, p2 = g[0, y, here], g[1, y, here], g[2, y, here], g[3, y, here], g[4, y, here], g[5, y, here]
    m0, m1, m2, q0, q1, q2 = g[0, i, there], g[1, i, there], g[2, i, there], g[3, i, there], g[4, i, there], g[5, i, there]
    own, other, own_noise, other_noise = value[3, y, here], value[3, i, there], sheet.noise[y, here], sheet.noise[i, there]
    weights, weight = sheet.weight[i, there], sums[4, here]
    for x in range(last - first):
        # how far the surface there goes on from that here; a px of two surfaces, whose mean normal is short, goes on in each
        apart = abs(n0[x] * (q0[x] - p0[x]) + n1[x] * (q1[x] - p1[x]) + n2[x] * (q2[x] - p2[x]))
        both = n0[x] * m0[x] + n1[x] * m1[x] + n2[x] * m2[x]
        turned = min(n0[x] * n0[x] + n1[x] * n1[x] + n2[x] * n2[x], m0[x] * m0[x] + m1[x] * m1[x] + m2[x] * m2[x]) - both
        weight[x] = share * weights[x] * max(NONE, ONE - apart * OFF_PLANE) * max(NONE, ONE - turned * TURNED)
    if not guessed:
        for x in range(last - first):
            noise, apart = (own_noise[x] + other_noise[x]) * quiet, own[x] - other[x]
            # falls nearly as an exponential does, which the processor's vectors do not have
            t = ONE / (ONE + QUARTER * LIKE * max(NONE, apart * apart - noise) / (noise + TINY))
            t = t * t
            weight[x] *= t * t
    for c in range(3):
        total, part = sums[c, here], value[c, i, there]
        for x in range(last - first):
            total[x] += weight[x] * part[x]
    total = sums[3, here]
    for x in range(last - first):
        total[x] += weight[x]
