"""Where a camera that moves is begun to be looked for: pairs of frames, and tracks that move alike between them."""

import cv2
import numpy as np

from ..basics.errors import SolveError
from .constants import SOLVER
from .views import Table, fundamental


def start_pairs(table: Table, reference: int | None = None, only: np.ndarray | None = None) -> list[tuple[int, int]]:
    """Pairs of frames, the best first, that show most parallax over most shared tracks: what one homography leaves over,
    times the tracks. The later ones lie elsewhere in the clip. reference: a frame that every pair has to begin at; only (tracks,) bool: the
    tracks that count.

    Raises SolveError when no two frames share enough tracks.
    """
    found = []
    for a in [reference] if reference is not None else range(0, max(1, table.frames - 4), max(1, table.frames // 12)):
        for gap in (6, 10, 16, 24, 32, 45, 60, 80):
            b = a + gap if reference is None or a + gap < table.frames else a - gap
            if not 0 <= b < table.frames:
                break
            tracks, p, q = table.shared(a, b)
            if only is not None:
                p, q = p[only[tracks]], q[only[tracks]]
            if len(p) < 30:
                break
            H, _ = cv2.findHomography(p, q, cv2.USAC_MAGSAC, 3.0)
            if H is None:
                continue
            left = np.median(np.linalg.norm(cv2.perspectiveTransform(p[:, None], H)[:, 0] - q, axis=1))
            found.append((min(left, 0.06 * table.width) * min(len(p), 150), min(a, b), max(a, b)))
    if not found:
        raise SolveError(
            "Too few tracks live long enough: no two frames far apart share 30 of them.",
            "Track with more features, uncover parts that were excluded, or shorten the range to the textured part.",
        )
    chosen: list[tuple[int, int]] = []
    for _, a, b in sorted(found, reverse=True):
        if all(abs(a + b - c - d) > 0.3 * table.frames for c, d in chosen):
            chosen.append((a, b))
    return chosen[: SOLVER.start_pairs]


def moving_alike(table: Table, a: int, b: int) -> list[np.ndarray]:
    """Groups of tracks (tracks,) bool that one epipolar geometry each accounts for, between frames a and b: the place, and
    perhaps something large that moves by itself (water, a vehicle, someone close). Focal length and lens play no part.

    Source: sequential RANSAC; P. Torr, Geometric motion segmentation and model selection, Phil. Trans. R. Soc. A 356, 1998.
    """
    tracks, p, q = table.shared(a, b)
    left = np.ones(len(tracks), bool)
    groups: list[np.ndarray] = []
    while len(groups) < 2 and left.sum() >= max(25, 0.25 * len(tracks)):
        found = fundamental(p[left], q[left], SOLVER.group_px * table.width / 1280, 5000)
        if found is None or found[1].sum() < max(20, 0.2 * len(tracks)):
            break
        rows = np.flatnonzero(left)[found[1]]
        group = np.zeros(table.tracks, bool)
        group[tracks[rows]] = True
        groups.append(group)
        left[rows] = False
    # what fits no group may still belong to the first
    return groups if len(groups) > 1 else [np.ones(table.tracks, bool)]
