"""Parting a picture in two by evidence for each pixel and a price for each step of the border: a convex two-label cut.

Sources: M. Unger, T. Pock, W. Trobin, D. Cremers, H. Bischof, TVSeg, BMVC 2008; A. Chambolle, T. Pock, A First-Order Primal-Dual
Algorithm for Convex Problems, JMIV 40, 2011.
"""

import cv2
import numpy as np

from ..basics.geometry import length, summed
from ..basics.jit import kernel

SMOOTH = 4.0  # price of a step of the border where the picture is even, in log-odds of a pixel
# of a piece that came in: px, more of which are no speck; log-odds of not being the background, and of how much likelier its colours are the subject's
OWN_PX, OWN_ODDS, OWN_COLOUR = 20, 3.0, 1.0
# px of the small picture by which a subject goes on from frame to frame; share of that up to which a piece of it stands still; px by which it is apart
GOES_PX, STILL, APART_PX, MAIN = 0.7, 0.25, 12.0, 0.7


def parted(
    evidence: np.ndarray, picture: np.ndarray, background: np.ndarray, start: np.ndarray, smooth: float = SMOOTH, rounds=(60, 40)
) -> np.ndarray:
    """(h, w) bool: the subject. evidence: (h, w) log-odds; picture and its predicted background: (h, w, 3); start: (h, w) bool.

    Half of the size first, which carries the border over large distances in a few rounds.
    """
    across, down = _prices(picture, background, smooth)
    high, wide = evidence.shape
    half = lambda a: cv2.resize(a, ((wide + 1) // 2, (high + 1) // 2), interpolation=cv2.INTER_AREA)
    full = lambda a: np.ascontiguousarray(cv2.resize(a, (wide, high)))
    share = half(start.astype(np.float32))
    px, py = np.zeros_like(share), np.zeros_like(share)
    share = _relaxed(2 * half(evidence), half(across), half(down), share, px, py, rounds[0])
    px, py = np.clip(full(px), -across, across), np.clip(full(py), -down, down)
    return _relaxed(evidence, across, down, full(share), px, py, rounds[1]) > 0.5


def _prices(picture: np.ndarray, background: np.ndarray, smooth: float) -> tuple[np.ndarray, np.ndarray]:
    """What a border costs to the right of and under each pixel: little on an edge, unless the background has that edge too."""

    def steps(a: np.ndarray, axis: int) -> np.ndarray:
        return np.pad(summed(np.abs(np.diff(a.astype(np.float32), axis=axis))), ((0, 0), (0, 1)) if axis else ((0, 1), (0, 0)))

    found = []
    for axis in (1, 0):
        step = steps(picture, axis) / (1 + (cv2.dilate(steps(background, axis), np.ones((3, 3), np.uint8)) / 20) ** 2)
        found.append((smooth * (0.05 + np.exp(-step / max(1.5 * float(step.mean()), 6)))).astype(np.float32))
    return found[0], found[1]


@kernel
def _relaxed(evidence: np.ndarray, across: np.ndarray, down: np.ndarray, u: np.ndarray, px: np.ndarray, py: np.ndarray, rounds: int) -> np.ndarray:
    """The minimum over u in 0..1 of sum price |du| - evidence u; u, px, py are its start, and hold its result."""
    high, wide = evidence.shape
    ahead, step = u.copy(), np.float32(0.35)
    for _ in range(rounds):
        for y in range(high):
            for x in range(wide):
                if x < wide - 1:
                    px[y, x] = min(max(px[y, x] + step * (ahead[y, x + 1] - ahead[y, x]), -across[y, x]), across[y, x])
                if y < high - 1:
                    py[y, x] = min(max(py[y, x] + step * (ahead[y + 1, x] - ahead[y, x]), -down[y, x]), down[y, x])
        for y in range(high):
            for x in range(wide):
                divergence = px[y, x] + py[y, x] - (px[y, x - 1] if x else np.float32(0)) - (py[y - 1, x] if y else np.float32(0))
                old = u[y, x]
                u[y, x] = min(max(old + step * (divergence + evidence[y, x]), np.float32(0)), np.float32(1))
                ahead[y, x] = 2 * u[y, x] - old
    return u


def signed_distance(mask: np.ndarray) -> np.ndarray:
    """(h, w) px to the border of a mask (h, w) bool, positive inside; the picture's own edge is no border."""
    m = mask.astype(np.uint8)
    return cv2.distanceTransform(m, cv2.DIST_L2, 3) - cv2.distanceTransform(1 - m, cv2.DIST_L2, 3)


def pieces(mask: np.ndarray, seed: np.ndarray, evidence: np.ndarray | None = None) -> np.ndarray:
    """The connected pieces of a mask that touch the seed and are no specks, and that on the whole have no evidence against them."""
    n, label, stats, _ = cv2.connectedComponentsWithStats(mask.astype(np.uint8))
    area = stats[:, 4]
    keep = np.bincount(label[seed & mask], minlength=n) > 5
    keep[0] = False
    keep &= area > max(30, 0.01 * area[keep].max() if keep.any() else 30)
    if evidence is not None:
        keep &= np.bincount(label.ravel(), evidence.ravel(), minlength=n) >= 0
    return keep[label]


def own_pieces(mask: np.ndarray, evidence: np.ndarray, colour: np.ndarray, most: float) -> np.ndarray:
    """The connected pieces of a mask that are parts of a subject which came in, as leaves of a branch: no specks, of less than `most` px, and on the mean
    surely not the background and of the subject's colours. evidence, colour: (h, w), log-odds of the one and of the other."""
    n, label, stats, _ = cv2.connectedComponentsWithStats(mask.astype(np.uint8))
    area = stats[:, 4]
    mean = lambda values: np.bincount(label.ravel(), values.ravel(), minlength=n) / area
    keep = (area > OWN_PX) & (area < most) & (mean(evidence) > OWN_ODDS) & (mean(colour) > OWN_COLOUR)
    keep[0] = False
    return keep[label]


def left_behind(mask: np.ndarray, flow: np.ndarray) -> np.ndarray:
    """The connected pieces of a mask that stand still in the place while its largest piece goes on, and lie apart from that: another thing that looked
    like the subject as it passed. flow: (h, w, 2) px by which each pixel moves in the place."""
    n, label, stats, _ = cv2.connectedComponentsWithStats(mask.astype(np.uint8))
    left = np.zeros(n, bool)
    if n > 2 and stats[1:, 4].max() > MAIN * stats[1:, 4].sum():
        speed, main = length(flow), 1 + int(stats[1:, 4].argmax())
        away = cv2.distanceTransform((label != main).astype(np.uint8), cv2.DIST_L2, 3)
        going = float(np.median(speed[label == main]))
        for piece in range(1, n):
            own = label == piece
            left[piece] = going > GOES_PX and away[own].min() > APART_PX and float(np.median(speed[own])) < STILL * going
    return left[label]


def painted_out(mask: np.ndarray, outside: np.ndarray) -> np.ndarray:
    """The connected pieces of a mask that what is painted out, (h, w) bool, meets or borders on."""
    n, label = cv2.connectedComponents(mask.astype(np.uint8))
    met = np.zeros(n, bool)
    met[label[cv2.dilate(outside.astype(np.uint8), np.ones((3, 3), np.uint8)) > 0]] = True
    met[0] = False
    return met[label]
