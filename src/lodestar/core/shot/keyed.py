"""The one way in which a value changes over time: a constant, or keys with easing between them."""

import bisect

import msgspec

Value = tuple[float, ...]
# cubic Bezier handles (x1, y1, x2, y2) of the named easings; 'smooth' is the ease-in-out of the CSS Easing standard
EASINGS = {"linear": (0.0, 0.0, 1.0, 1.0), "smooth": (0.42, 0.0, 0.58, 1.0)}


class Key(msgspec.Struct, frozen=True):
    """A value at a frame. easing ('hold', 'linear', 'smooth' or 'free') leads from here to the next key."""

    frame: float
    value: Value
    easing: str = "smooth"
    handles: tuple[float, float, float, float] = (0.42, 0.0, 0.58, 1.0)


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
        key = msgspec.structs.replace(old, value=tuple(value)) if old else Key(frame, tuple(value), easing)
        rest = tuple(k for k in self.keys if k.frame != frame)
        return Keyed(self.value, tuple(sorted((*rest, key), key=lambda k: k.frame)))

    def without_key(self, frame: float) -> "Keyed":
        """The key at the frame is gone; the last one to go leaves its value as the constant."""
        rest = tuple(k for k in self.keys if k.frame != frame)
        return Keyed(self.value, rest) if rest or not self.keys else Keyed(self.keys[0].value)

    def moved_key(self, old: float, new: float) -> "Keyed":
        moved = [msgspec.structs.replace(k, frame=new) if k.frame == old else k for k in self.keys if k.frame != new or k.frame == old]
        return Keyed(self.value, tuple(sorted(moved, key=lambda k: k.frame)))

    def with_easing(self, frame: float, easing: str) -> "Keyed":
        return Keyed(self.value, tuple(msgspec.structs.replace(k, easing=easing) if k.frame == frame else k for k in self.keys))

    def changed(self, frame: float, value: Value, keying: bool) -> "Keyed":
        """What a drag or a typed number does: without keys the constant; with keying on a key here; else the whole motion moves."""
        if keying:
            return self.with_key(frame, value)
        if not self.keys:
            return Keyed(tuple(value))
        shift = [new - old for new, old in zip(value, self.at(frame))]
        return Keyed(tuple(value), tuple(msgspec.structs.replace(k, value=tuple(v + s for v, s in zip(k.value, shift))) for k in self.keys))

    def has_key(self, frame: float) -> bool:
        return any(k.frame == frame for k in self.keys)


def constant(*value: float) -> Keyed:
    return Keyed(tuple(float(v) for v in value))


def ease(key: Key, share: float) -> float:
    """Share of the way for a share of the time, along the key's cubic Bezier. Source: W3C, CSS Easing Functions Level 1, 2.3."""
    x1, y1, x2, y2 = key.handles if key.easing == "free" else EASINGS.get(key.easing, EASINGS["linear"])
    if (x1, y1) == (0.0, 0.0) and (x2, y2) == (1.0, 1.0):
        return share
    low, high = 0.0, 1.0
    for _ in range(40):  # x is monotonic in t for handles within 0..1, so halving finds it
        t = 0.5 * (low + high)
        x = 3 * (1 - t) ** 2 * t * x1 + 3 * (1 - t) * t * t * x2 + t**3
        low, high = (t, high) if x < share else (low, t)
    return 3 * (1 - t) ** 2 * t * y1 + 3 * (1 - t) * t * t * y2 + t**3
