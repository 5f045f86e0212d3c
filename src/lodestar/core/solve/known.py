"""What is known of the place itself, distances and directions between its points, as a part of the adjustment.

One distance gives a scene its size and one direction turns it; neither changes the solved camera. Only what they say of each
other does: a second distance against the first, a right angle, two things that run side by side. So each round first finds the
size and the turn that suit all of them best, and what is still left pulls at the points. A few points, constrained to each other, are
outside the sparse system that the adjustment solves, and come in as a correction of low rank.
Source: W. Hager, Updating the inverse of a matrix, SIAM Review 31(2), 1989 (Sherman, Morrison and Woodbury).
"""

from collections.abc import Iterable, Sequence
from typing import NamedTuple

import msgspec
import numpy as np

from .constants import SOLVER

AXES = "xyz"
SAME_OFF = SOLVER.distance_off / 10  # of a usual span, between pieces of one point


class Span(msgspec.Struct, frozen=True, omit_defaults=True):
    """From one track's point to another's: `metres` apart (0: not known), and along 'x', 'y' or 'z' ('': not known)."""

    a: int
    b: int
    metres: float = 0.0
    along: str = ""


class Constraints(NamedTuple):
    """Spans over the points of a scene: a, b (n,) their numbers; metres (n,); along (n,) 0, 1, 2 for x, y, z, or -1.
    same (g, 2): points that are one, since a long track was cut in the adjustment."""

    a: np.ndarray
    b: np.ndarray
    metres: np.ndarray
    along: np.ndarray
    same: np.ndarray = np.zeros((0, 2), int)

    @property
    def rows(self) -> np.ndarray:
        """The span that each row of `residuals` belongs to: one for a distance, then two for a direction. Those of `same` follow."""
        return np.r_[np.flatnonzero(self.metres > 0), np.repeat(np.flatnonzero(self.along >= 0), 2)]

    @property
    def points(self) -> np.ndarray:
        return np.unique(np.r_[self.a, self.b, self.same.ravel()])


def says_of_itself(spans: Sequence[Span]) -> bool:
    """Whether there is more than what sizes and turns the scene."""
    return sum(s.metres > 0 for s in spans) > 1 or sum(bool(s.along) for s in spans) > 1


def constraints_of(spans: Iterable[Span], number: np.ndarray) -> Constraints | None:
    """Those spans whose tracks both have a point: number (tracks,) of the point of each, -1 without. None when no two are left
    that could say anything of each other."""
    some = [s for s in spans if max(s.a, s.b) < len(number) and number[s.a] >= 0 and number[s.b] >= 0 and s.a != s.b]
    if not says_of_itself(some):
        return None
    at_a, at_b = (number[np.array([getattr(s, end) for s in some], int)] for end in "ab")
    return Constraints(at_a, at_b, np.array([s.metres for s in some]), np.array([AXES.find(s.along) if s.along else -1 for s in some]))


def size_of(metres: np.ndarray, apart: np.ndarray) -> float:
    """Metres in a unit: what suits distances (n,) best that are `apart` (n,) units in the scene, each in proportion to itself."""
    return float(np.exp(np.log(metres / apart).mean()))


def turn_of(u: np.ndarray, along: np.ndarray) -> np.ndarray:
    """(3, 3) whose rows are the directions x, y, z that suit unit vectors u (n, 3) best, which run along axis `along` (n,), either way."""
    u = u.copy()
    first: dict[int, np.ndarray] = {}
    for k, axis in enumerate(along):
        u[k] *= np.sign(u[k] @ first.setdefault(int(axis), u[k])) or 1.0
    tried = []
    for flip in (1.0, -1.0):  # of three axes through one point, turning one round makes the other hand of it
        target = np.eye(3)[along] * np.where(along == max(first), flip, 1.0)[:, None]
        u_spread, _, v_spread = np.linalg.svd(target.T @ u)
        Q = u_spread @ np.diag([1.0, 1.0, np.linalg.det(u_spread @ v_spread)]) @ v_spread
        tried.append((float(np.sum((target @ Q - u) ** 2)), Q))
    return min(tried, key=lambda x: x[0])[1]


def residuals(constraints: Constraints, X: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """What is left of the constraints at points X (m, 3): c (k,), each in what it may be off by, and its derivative J (k, q, 3) by
    `constraints.points` (q,). The size and the turn of the scene are taken out of both."""
    points = constraints.points
    at_a, at_b = np.searchsorted(points, constraints.a), np.searchsorted(points, constraints.b)
    d = X[constraints.b] - X[constraints.a]
    length = np.maximum(np.linalg.norm(d, axis=1), 1e-12)
    u = d / length[:, None]
    far, led = np.flatnonzero(constraints.metres > 0), np.flatnonzero(constraints.along >= 0)
    c: list[float] = []
    by_b: list[np.ndarray] = []
    free: list[np.ndarray] = []  # how c changes with size (1) and turn (3)
    size = size_of(constraints.metres[far], length[far]) if len(far) else 1.0
    for i in far:
        c.append(np.log(size * length[i] / constraints.metres[i]) / SOLVER.distance_off)
        by_b.append(u[i] / length[i] / SOLVER.distance_off)
        free.append(np.array([1.0, 0, 0, 0]))
    Q = turn_of(u[led], constraints.along[led]) if len(led) else np.eye(3)
    for i in led:
        for e in np.linalg.svd(Q[constraints.along[i]][None])[2][1:]:
            c.append(float(e @ u[i]) / SOLVER.direction_off)
            by_b.append((e - (e @ u[i]) * u[i]) / length[i] / SOLVER.direction_off)
            free.append(np.r_[0.0, np.cross(e, u[i])])
    J = np.zeros((len(c) + 3 * len(constraints.same), len(points), 3))
    for k, i in enumerate(constraints.rows):
        J[k, at_b[i]] += by_b[k]
        J[k, at_a[i]] -= by_b[k]
    near = SAME_OFF * float(np.median(length))
    for k, (p, q) in enumerate(np.searchsorted(points, constraints.same)):
        rows = slice(len(constraints.rows) + 3 * k, len(constraints.rows) + 3 * k + 3)
        J[rows, p], J[rows, q] = np.eye(3) / near, -np.eye(3) / near
    one = (X[constraints.same[:, 0]] - X[constraints.same[:, 1]]).ravel() / near
    free += [np.zeros(4)] * len(one)
    c += list(one)
    basis, strength, _ = np.linalg.svd(np.array(free), full_matrices=False)
    basis = basis[:, strength > 1e-6 * max(float(strength.max()), 1e-12)]
    keep = np.eye(len(c)) - basis @ basis.T
    return keep @ np.array(c), np.einsum("kl,lqi->kqi", keep, J)
