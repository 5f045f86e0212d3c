"""The one way in which a value changes over time: a constant, or keys with easing between them."""

import bisect
from collections.abc import Sequence
from typing import Literal

import msgspec
import numpy as np

Value = tuple[float, ...]
# cubic Bezier handles (x1, y1, x2, y2) of the named easings; 'smooth' is the ease-in-out of the CSS Easing standard
EASINGS = {"linear": (0.0, 0.0, 1.0, 1.0), "smooth": (0.42, 0.0, 0.58, 1.0)}
How = Literal["here", "key", "whole"]  # a change of a keyed value: see Keyed.changed


class Key(msgspec.Struct, frozen=True):
    """A value at a frame. easing ('hold', 'linear', 'smooth' or 'free') leads from here to the next key. only: numbers, rising, of those parts of the value
    that it keys, as the x and y of one corner; none for all of them. A part goes from one key of its own to the next."""

    frame: float
    value: Value
    easing: str = "smooth"
    handles: tuple[float, float, float, float] = (0.42, 0.0, 0.58, 1.0)
    only: tuple[int, ...] = ()

    @property
    def curve(self) -> tuple[float, float, float, float]:
        """The handles that its easing stands for."""
        return self.handles if self.easing == "free" else EASINGS.get(self.easing, EASINGS["linear"])

    def eased(self, easing: str) -> "Key":
        """With another easing; a free one begins with the shape that it had."""
        return msgspec.structs.replace(self, easing=easing, handles=self.curve if easing == "free" else self.handles)


class Keyed(msgspec.Struct, frozen=True):
    """A number, a vector or the points of an outline, as a flat tuple of floats. `value` holds while there are no keys."""

    value: Value
    keys: tuple[Key, ...] = ()

    def at(self, frame: float) -> Value:
        if not self.keys:
            return self.value
        a, b = _beside(self.keys, frame)
        if not a.only and not b.only:
            return _on_the_way(a, b, frame)
        # parts that no key holds by themselves go from one whole key to the next
        found = list(_on_the_way(*_beside([k for k in self.keys if not k.only] or self.keys, frame), frame))
        for part in {part for key in self.keys for part in key.only}:
            found[part] = _on_the_way(*_beside([k for k in self.keys if not k.only or part in k.only], frame), frame)[part]
        return tuple(found)

    def over(self, frames: np.ndarray) -> np.ndarray:
        """(n, k) as `at`, at frames (n,): for many at once, as of a curve, or of letters that have times of their own. Without keys (1, k)."""
        if not self.keys:
            return np.array([self.value])
        found = _over([k for k in self.keys if not k.only] or self.keys, frames)
        for part in {part for key in self.keys for part in key.only}:
            found[:, part] = _over([k for k in self.keys if not k.only or part in k.only], frames)[:, part]
        return found

    def with_key(self, frame: float, value: Value, easing: str = "smooth", only: tuple[int, ...] = ()) -> "Keyed":
        """A key at the frame; one that is there keeps its easing. only: the parts that it keys beside those which are keyed there, none for all."""
        old = next((k for k in self.keys if k.frame == frame), None)
        value = _plain(value)
        # a key of all stays one
        held = set(only) if old is None else {*old.only, *only} if old.only and only else set()
        only = tuple(sorted(held)) if len(held) < len(value) else ()
        key = msgspec.structs.replace(old, value=value, only=only) if old else Key(frame, value, easing, only=only)
        rest = tuple(k for k in self.keys if k.frame != frame)
        return Keyed(self.value, tuple(sorted((*rest, key), key=lambda k: k.frame)))

    def without_key(self, frame: float) -> "Keyed":
        """The key at the frame is gone; the last one to go leaves its value as the constant."""
        rest = tuple(k for k in self.keys if k.frame != frame)
        return Keyed(self.value, rest) if rest or not self.keys else Keyed(self.keys[0].value)

    def changed(self, frame: float, value: Value, how: How = "here") -> "Keyed":
        """What a drag or a typed number does. how: 'here' keys a value that has keys, and sets one that has none; 'key' keys it in any
        case; 'whole' shifts the whole motion, so that it is `value` at the frame."""
        value = _plain(value)
        if how == "key" or (self.keys and how == "here"):
            return self.with_key(frame, value)
        if not self.keys:
            return Keyed(value)
        shift = [new - old for new, old in zip(value, self.at(frame))]
        return Keyed(value, tuple(msgspec.structs.replace(k, value=tuple(v + s for v, s in zip(k.value, shift))) for k in self.keys))

    def has_key(self, frame: float) -> bool:
        return any(k.frame == frame for k in self.keys)


def _beside(keys: Sequence[Key], frame: float) -> tuple[Key, Key]:
    """The keys before and after a frame; the first or the last one twice beyond them."""
    i = bisect.bisect_right([k.frame for k in keys], frame)
    return keys[max(i - 1, 0)], keys[min(i, len(keys) - 1)]


def _over(keys: Sequence[Key], frames: np.ndarray) -> np.ndarray:
    """(n, k) at frames (n,), from each of the keys to the next as a whole."""
    begins, values = np.array([k.frame for k in keys]), np.array([k.value for k in keys])
    i = np.searchsorted(begins, frames, "right")
    found = values[np.clip(i - 1, 0, None)].astype(float)
    goes = np.array([0, *(k.easing != "hold" for k in keys[:-1]), 0], bool)  # between a key and the next, by the number of the next
    rows = np.flatnonzero(goes[i])
    a, b = i[rows] - 1, i[rows]
    share = _eased(np.array([k.curve for k in keys])[a], (frames[rows] - begins[a]) / (begins[b] - begins[a]))
    found[rows] = values[a] + (values[b] - values[a]) * share[:, None]
    return found


def _on_the_way(a: Key, b: Key, frame: float) -> Value:
    if a is b or frame < a.frame or a.easing == "hold":
        return a.value
    share = ease(a, (frame - a.frame) / (b.frame - a.frame))
    return tuple(x + (y - x) * share for x, y in zip(a.value, b.value))


def _plain(value: Value) -> Value:
    """Numbers of NumPy as plain ones, which a file can hold."""
    return tuple(float(v) for v in value)


def constant(*value: float) -> Keyed:
    return Keyed(_plain(value))


def ease(key: Key, share: float) -> float:
    """Share of the way for a share of the time, along the key's cubic Bezier. Source: W3C, CSS Easing Functions Level 1, 2.3."""
    x1, y1, x2, y2 = key.curve  # as in `_eased`
    if share in (0.0, 1.0) or ((x1, y1) == (0.0, 0.0) and (x2, y2) == (1.0, 1.0)):
        return share
    low, high = 0.0, 1.0
    for _ in range(40):  # x is monotonic in t for handles within 0..1, so halving finds it
        t = 0.5 * (low + high)
        x = 3 * (1 - t) ** 2 * t * x1 + 3 * (1 - t) * t * t * x2 + t**3
        low, high = (t, high) if x < share else (low, t)
    return 3 * (1 - t) ** 2 * t * y1 + 3 * (1 - t) * t * t * y2 + t**3


def _eased(curves: np.ndarray, share: np.ndarray) -> np.ndarray:
    """As `ease`, of shares (n,) along curves (n, 4)."""
    x1, y1, x2, y2 = curves.T
    even = (curves == EASINGS["linear"]).all(1)
    low, high = np.zeros(len(share)), np.ones(len(share))
    for _ in range(40):
        t = 0.5 * (low + high)
        under = t * (3 * (1 - t) * ((1 - t) * x1 + t * x2) + t * t) < share
        low, high = np.where(under, t, low), np.where(under, high, t)
    found = 3 * (1 - t) ** 2 * t * y1 + 3 * (1 - t) * t * t * y2 + t**3
    return np.where(even, share, np.where(share <= 0, 0.0, np.where(share >= 1, 1.0, found)))
