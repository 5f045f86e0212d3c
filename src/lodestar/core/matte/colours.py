"""Colour models of a subject and of what is round it: histograms in a coarse grid of places, so that a shoe is compared with the ground
beside it and not with the sky.

Sources: X. Bai, J. Wang, D. Simons, G. Sapiro, Video SnapCut, SIGGRAPH 2009 (localized classifiers); N. Märki, F. Perazzi, O. Wang,
A. Sorkine-Hornung, Bilateral Space Video Segmentation, CVPR 2016 (a grid over place and colour).
"""

import cv2
import numpy as np

from ..basics.jit import kernel

BINS, CELL_PX = 16, 24  # bins of a colour channel; side of a cell of the grid, in px of the small picture


_CODES = np.arange(256, dtype=np.float32)
# of each code of CIE L*a*b* in 8 bits, its place among the bins; and the nearest bin
LIGHTNESS, TINT = _CODES / 17, np.clip((_CODES - 128) / 8 + 7.5, 0, BINS - 1)
OF_LIGHTNESS, OF_TINT = ((place + 0.5).astype(np.int32) * share for place, share in ((LIGHTNESS, BINS * BINS), (TINT, 1)))


def bins_of(rgb: np.ndarray) -> np.ndarray:
    """(h, w, 3) float32: a picture's colours in CIE L*a*b*, as places among the bins. Grey lies in the middle of a and b."""
    lab = cv2.cvtColor(rgb, cv2.COLOR_RGB2LAB)
    return np.dstack([LIGHTNESS[lab[..., 0]], TINT[lab[..., 1:]]])


def numbers_of(rgb: np.ndarray) -> np.ndarray:
    """(h, w): the number of the bin that each colour of a picture lies in, of all."""
    lightness, a, b = cv2.split(cv2.cvtColor(rgb, cv2.COLOR_RGB2LAB))
    return OF_LIGHTNESS[lightness] + (BINS * OF_TINT[a] + OF_TINT[b])


def whole_model(bins: np.ndarray, inside: np.ndarray, outside: np.ndarray) -> np.ndarray:
    """(BINS, BINS, BINS, 2): how often each colour is inside and outside, of the whole picture. inside, outside: (h, w) bool."""
    found = np.zeros((1, 1, BINS, BINS, BINS, 2), np.float32)
    at = (bins + 0.5).astype(int)
    for k, part in enumerate((inside, outside)):
        np.add.at(found, (0, 0, *at[part].T, k), 1)
    soften(found)
    soften(found)
    return found[0, 0] / (found[0, 0].sum((0, 1, 2)) + 1e-6)


def local_model(bins: np.ndarray, inside: np.ndarray, outside: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Histograms by cell, (rows, columns, BINS, BINS, BINS, 2); their sums before they were softened; and the one of all cells. inside,
    outside: (h, w) float32 weights."""
    grid = _collected(bins, inside.astype(np.float32), outside.astype(np.float32), bins.shape[0] // CELL_PX + 2, bins.shape[1] // CELL_PX + 2)
    whole, total = grid.sum((0, 1)), grid.sum((2, 3, 4))
    soften(grid)
    return grid, total, whole / (whole.sum((0, 1, 2)) + 1)


def log_ratios(whole: np.ndarray) -> np.ndarray:
    """(BINS^3,): log of how much likelier a colour of each bin is inside than outside, by a model of the whole picture."""
    bins = np.stack(np.unravel_index(np.arange(BINS**3), (BINS,) * 3), -1).astype(np.float32)[None]
    none, total = np.zeros((2, 2, BINS, BINS, BINS, 2), np.float32), np.zeros((2, 2, 2), np.float32)
    return log_ratio(bins, none, total, whole.astype(np.float32), 1.0, 3.0)[0]


def log_ratio_of_whole(bins: np.ndarray, whole: np.ndarray) -> np.ndarray:
    """(h, w): of each colour of a picture the same."""
    lightness, a, b = cv2.split((bins + 0.5).astype(np.int32))
    return log_ratios(whole)[(lightness * BINS + a) * BINS + b]


@kernel
def _collected(bins: np.ndarray, inside: np.ndarray, outside: np.ndarray, rows: int, columns: int) -> np.ndarray:
    """Every second pixel, shared among the four cells round it."""
    grid = np.zeros((rows, columns, BINS, BINS, BINS, 2), np.float32)
    for y in range(bins.shape[0]):
        j, v = int(y / CELL_PX), y / CELL_PX - int(y / CELL_PX)
        for x in range(y & 1, bins.shape[1], 2):
            a, b = inside[y, x], outside[y, x]
            if a <= 0 and b <= 0:
                continue
            i, u = int(x / CELL_PX), x / CELL_PX - int(x / CELL_PX)
            c0, c1, c2 = int(bins[y, x, 0] + 0.5), int(bins[y, x, 1] + 0.5), int(bins[y, x, 2] + 0.5)
            for dy in range(2):
                for dx in range(2):
                    share = (v if dy else 1 - v) * (u if dx else 1 - u)
                    grid[j + dy, i + dx, c0, c1, c2, 0] += share * a
                    grid[j + dy, i + dx, c0, c1, c2, 1] += share * b
    return grid


@kernel
def soften(grid: np.ndarray) -> None:
    """[1 2 1] / 4 along the three colour axes of every cell that holds something, in place."""
    line = np.zeros((BINS, 2), np.float32)
    for cell in range(grid.shape[0] * grid.shape[1]):
        h = grid[cell // grid.shape[1], cell % grid.shape[1]].reshape(BINS * BINS * BINS, 2)
        if h.sum() == 0:
            continue
        for stride in (1, BINS, BINS * BINS):
            for a in range(BINS * BINS):
                start = a * BINS
                if stride == BINS:
                    start = a // BINS * BINS * BINS + a % BINS
                elif stride > BINS:
                    start = a
                for c in range(BINS):
                    line[c, 0], line[c, 1] = h[start + c * stride, 0], h[start + c * stride, 1]
                for c in range(BINS):
                    for k in range(2):
                        h[start + c * stride, k] = 0.25 * line[max(c - 1, 0), k] + 0.5 * line[c, k] + 0.25 * line[min(c + 1, BINS - 1), k]


@kernel
def log_ratio(bins: np.ndarray, grid: np.ndarray, total: np.ndarray, whole: np.ndarray, as_many: float, limit: float) -> np.ndarray:
    """(h, w): log p(colour | inside here) / p(colour | outside here), within ±limit; `whole` counts everywhere as `as_many` pixels."""
    out = np.zeros(bins.shape[:2], np.float32)
    for y in range(bins.shape[0]):
        j, v = int(y / CELL_PX), y / CELL_PX - int(y / CELL_PX)
        for x in range(bins.shape[1]):
            i, u = int(x / CELL_PX), x / CELL_PX - int(x / CELL_PX)
            c0, c1, c2 = int(bins[y, x, 0] + 0.5), int(bins[y, x, 1] + 0.5), int(bins[y, x, 2] + 0.5)
            a, b, n_in, n_out = 0.0, 0.0, 0.0, 0.0
            for dy in range(2):
                for dx in range(2):
                    share = (v if dy else 1 - v) * (u if dx else 1 - u)
                    row, column = min(j + dy, grid.shape[0] - 1), min(i + dx, grid.shape[1] - 1)
                    a, b = a + share * grid[row, column, c0, c1, c2, 0], b + share * grid[row, column, c0, c1, c2, 1]
                    n_in, n_out = n_in + share * total[row, column, 0], n_out + share * total[row, column, 1]
            p_in = (a + as_many * whole[c0, c1, c2, 0]) / (n_in + as_many) + 1e-4
            p_out = (b + as_many * whole[c0, c1, c2, 1]) / (n_out + as_many) + 1e-4
            out[y, x] = min(max(np.log(p_in / p_out), -limit), limit)
    return out
