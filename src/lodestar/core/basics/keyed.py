"""The one way in which a value changes over time: a constant, or keys with easing between them."""

import bisect
from typing import Literal

import msgspec

Value = tuple[float, ...]
# cubic Bezier handles (x1, y1, x2, y2) of the named easings; 'smooth' is the ease-in-out of the CSS Easing standard
EASINGS = {"linear": (0.0, 0.0, 1.0, 1.0), "smooth": (0.42, 0.0, 0.58, 1.0)}
How = Literal["here", "key", "whole"]  # a change of a keyed value: see Keyed.changed


class Key(msgspec.Struct, frozen=True):
    """A value at a frame. easing ('hold', 'linear', 'smooth' or 'free') leads from here to the next key."""

    frame: float
    value: Value
    easing: str = "smooth"
    handles: tuple[float, float, float, float] = (0.42, 0.0, 0.58, 1.0)

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
        i = bisect.bisect_right([k.frame for k in self.keys], frame)
        if i == 0:
            return self.keys[0].value
        a = self.keys[i - 1]
        if i == len(self.keys) or a.easing == "hold":
            return a.value
        b = self.keys[i]
        share = ease(a, (frame - a.frame) / (b.frame - a.frame))
        return tuple(x + (y - x) * share for x, y in zip(a.value, b.value))

    def with_key(self, frame: float, value: Value, easing: str = "smooth") -> "Keyed":
        """A key at the frame; one that is there keeps its easing."""
        old = next((k for k in self.keys if k.frame == frame), None)
        value = _plain(value)
        key = msgspec.structs.replace(old, value=value) if old else Key(frame, value, easing)
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


def _plain(value: Value) -> Value:
    """Numbers of NumPy as plain ones, which a file can hold."""
    return tuple(float(v) for v in value)


def constant(*value: float) -> Keyed:
    return Keyed(_plain(value))


def ease(key: Key, share: float) -> float:
    """Share of the way for a share of the time, along the key's cubic Bezier. Source: W3C, CSS Easing Functions Level 1, 2.3."""
    x1, y1, x2, y2 = key.curve
    if share in (0.0, 1.0) or ((x1, y1) == (0.0, 0.0) and (x2, y2) == (1.0, 1.0)):
        return share
    low, high = 0.0, 1.0
    for _ in range(40):  # x is monotonic in t for handles within 0..1, so halving finds it
        t = 0.5 * (low + high)
        x = 3 * (1 - t) ** 2 * t * x1 + 3 * (1 - t) * t * t * x2 + t**3
        low, high = (t, high) if x < share else (low, t)
    return 3 * (1 - t) ** 2 * t * y1 + 3 * (1 - t) * t * t * y2 + t**3
