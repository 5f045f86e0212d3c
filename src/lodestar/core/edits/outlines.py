"""Corners of an outline: handles of their own, new ones and ones less, in all keys alike, so that corners keep belonging together."""

from collections.abc import Callable
from typing import NamedTuple

import msgspec
import numpy as np

from ..basics.geometry import F64
from ..basics.keyed import Key, Keyed
from ..matte.outline import parts_of, tangents
from ..matte.sources import Outline


class _Curve(NamedTuple):
    """One key of an outline: corners (n, 2), the handles (2, 2) of those that have some, in and out, and where each side begins and ends, with how it
    leaves and comes in, (n, 2) each, as of `tangents`."""

    corners: F64
    handles: dict[int, F64]
    sides: tuple[F64, F64, F64, F64]

    def ends(self, corner: int) -> F64:
        """(2, 2) the handles that a corner has, or as which its curve goes now; at an end of an open line the one that leads nowhere is mirrored."""
        if corner in self.handles:
            return self.handles[corner]
        _, leaves, _, comes = self.sides
        at = self.corners[corner]
        return np.array([at - comes[corner - 1] / 3, at + leaves[corner] / 3])


Change = Callable[[_Curve], tuple[F64, dict[int, F64]]]


def with_handles(outline: Outline, corner: int) -> Outline:
    """A corner gets handles, as its curve goes; nothing is seen of it."""
    return _changed(outline, lambda c: (c.corners, c.handles | {corner: c.ends(corner)}), lambda numbers: numbers)


def without_handles(outline: Outline, corner: int) -> Outline:
    """A corner that is smooth again, without handles."""
    return _changed(outline, lambda c: (c.corners, {k: h for k, h in c.handles.items() if k != corner}), lambda numbers: numbers)


def without_corner(outline: Outline, corner: int) -> Outline:
    down = lambda k: k - (k > corner)
    change = lambda c: (np.delete(c.corners, corner, axis=0), {down(k): h for k, h in c.handles.items() if k != corner})
    return _changed(outline, change, lambda numbers: [*numbers[:corner], *numbers[corner + 1 :]])


def with_corner(outline: Outline, after: int, share: float) -> Outline:
    """One more corner, at a share of the side after a corner; the shape stays as it is at each key. On a side between sharp corners it is sharp; on others
    it and those beside it get handles. Source: P. de Casteljau's cut of a cubic (G. Farin, Curves and Surfaces for CAGD)."""
    count = outline.count
    second = (after + 1) % count
    straight = {after, second} <= set(outline.sharp) - set(outline.handled)
    up = lambda k: k + (k > after)

    def change(curve: _Curve) -> tuple[F64, dict[int, F64]]:
        first, leaves, last, comes = (side[after] for side in curve.sides)
        points = np.array([first, first + leaves / 3, last - comes / 3, last])
        cut = [points]
        while len(cut[-1]) > 1:
            cut.append(cut[-1][:-1] + share * (cut[-1][1:] - cut[-1][:-1]))
        handles = {up(k): h for k, h in curve.handles.items()}
        if not straight:
            one, other = curve.ends(after), curve.ends(second)
            handles |= {after: np.array([one[0], cut[1][0]]), up(second): np.array([cut[1][2], other[1]]), after + 1: cut[2]}
        return np.insert(curve.corners, after + 1, cut[3][0], axis=0), handles

    def between(numbers: list) -> list:
        new = 0.5 * (numbers[after] + numbers[second]) if isinstance(numbers[0], float) else straight
        return [*numbers[: after + 1], new, *numbers[after + 1 :]]

    return _changed(outline, change, between)


def _changed(outline: Outline, change: Change, numbers: Callable[[list], list]) -> Outline:
    """The outline with each key changed. numbers: of a list with one entry for each corner."""

    def one(value: tuple[float, ...]) -> tuple[tuple[float, ...], tuple[int, ...]]:
        points = np.array(value).reshape(-1, 2)
        corners, handles = parts_of(points, outline.handled)
        curve = _Curve(corners, dict(zip(outline.handled, handles)), tangents(points, outline.sharp, outline.closed, outline.handled))
        corners, own = change(curve)
        whole = np.concatenate([corners, *(own[k] for k in sorted(own))])
        return tuple(float(v) for v in whole.ravel()), tuple(sorted(own))

    value, handled = one(outline.shape.value)

    def only(key: Key) -> tuple[int, ...]:
        """The corners that it keys, as they are numbered now, with the handles that they have now; a new one where one beside it is among them."""
        if not key.only:
            return ()
        own = outline.keyed_at(key.frame)
        held = [k for k, share in enumerate(numbers([float(k in own) for k in range(outline.count)])) if share > 0]
        first = len(value) // 2 - 2 * len(handled)
        rows = [*held, *(first + 2 * j + side for j, k in enumerate(handled) if k in held for side in (0, 1))]
        return tuple(2 * row + axis for row in rows for axis in (0, 1))

    # a key of some corners is cut where all of them are at its frame; one that holds none any more says nothing
    keys = tuple(msgspec.structs.replace(k, value=one(outline.shape.at(k.frame))[0], only=only(k)) for k in outline.shape.keys)
    keys = tuple(new for new, old in zip(keys, outline.shape.keys, strict=True) if new.only or not old.only)
    sharp = numbers([k in outline.sharp for k in range(outline.count)])
    shares = tuple(numbers([*outline.feathers, *[1.0] * outline.count][: outline.count])) if outline.feathers else ()
    return msgspec.structs.replace(
        outline,
        shape=Keyed(value, keys),
        sharp=tuple(k for k, hard in enumerate(sharp) if hard and k not in handled),
        handled=handled,
        feathers=shares,
    )
