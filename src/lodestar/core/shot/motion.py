"""What is done to keys: moved, copied, deleted and eased, and motions that are generated as keys which can be edited on.

`Chosen` are keys in hand, each by the id of its thing, the field and the frame. Frames are of the clip.
"""

import math
from collections.abc import Callable, Iterable
from typing import Any, get_args

import msgspec
import numpy as np

from ..basics.errors import UserError
from ..basics.keyed import Key, Keyed, Value
from .document import Shot
from .objects import keyed_parts, owned

Chosen = frozenset[tuple[str, str, float]]
LOOPS = ("again", "there and back", "onwards")
# exact for free fall: x(t) = t and y(t) = t squared as a cubic Bezier, and the same seen backward
FALL, RISE = (1 / 3, 0.0, 2 / 3, 1 / 3), (1 / 3, 2 / 3, 2 / 3, 1.0)
# half a cosine, to 0.3 % of its height: same slope in the middle, level at both ends
SWING = (0.3642, 0.0, 0.6358, 1.0)
LIT, OUT = 6.0, 2.0  # frames that a tube which flickers stays on and off, on average (common practice, no source)
DIP = (0.1, 0.6)  # of its value, while it is off (common practice, no source)


def _parts() -> tuple[tuple[str, ...], tuple[str, ...]]:
    """Fields of a shot that hold lists of things with ids, and those that hold one thing with keyed values; told by their types."""
    lists, singles = [], []
    for field in msgspec.structs.fields(Shot):
        kinds = _structs_in(field.type)
        if isinstance(field.default, tuple) and kinds and all("id" in kind.__struct_fields__ for kind in kinds):
            lists.append(field.name)
        elif isinstance(field.default, msgspec.Struct) and keyed_parts(field.default):
            singles.append(field.name)
    return tuple(lists), tuple(singles)


def _structs_in(hint: Any) -> list[type[msgspec.Struct]]:
    """All structs that a type speaks of."""
    if isinstance(hint, type) and issubclass(hint, msgspec.Struct):
        return [hint]
    return [kind for part in get_args(hint) for kind in _structs_in(part)]


LISTS, SINGLES = _parts()


def keyed_things(shot: Shot) -> dict[str, msgspec.Struct]:
    """Whatever has keyed values, by its id, layers and movers after the object that has them; what there is one of goes by the name of its field."""
    found: dict[str, msgspec.Struct] = {}
    for kind in LISTS:
        for item in getattr(shot, kind):
            found[item.id] = item
            if kind == "objects":
                found.update({child.id: child for own in owned(item).values() for child in own})
    return {**found, **{name: getattr(shot, name) for name in SINGLES}}


def keyed_thing(shot: Shot, id_: str) -> msgspec.Struct | None:
    """One of `keyed_things`. Each row of a panel asks for its own: objects themselves are found without all that they have."""
    if not id_ or id_ in SINGLES:
        return getattr(shot, id_) if id_ else None
    return next((item for kind in LISTS for item in getattr(shot, kind) if item.id == id_), None) or keyed_things(shot).get(id_)


def field_of(shot: Shot, id_: str) -> str:
    """The field of the shot that holds the thing with this id, or the object that it is a part of; empty where there is none."""
    found = next((kind for kind in LISTS if any(x.id == id_ for x in getattr(shot, kind))), id_ if id_ in SINGLES else "")
    return found or ("objects" if owner_of(shot, id_) else "")


def owner_of(shot: Shot, id_: str) -> str:
    """The id of the object that has a layer or mover with this id; empty where there is none."""
    return next((o.id for o in shot.objects for own in owned(o).values() if any(child.id == id_ for child in own)), "")


def _with_owned(item: Any, changed: dict[str, msgspec.Struct]) -> Any:
    """The object with those of its layers and movers that are among the changed."""
    fields = {
        name: tuple(changed.get(child.id, child) for child in own) for name, own in owned(item).items() if any(child.id in changed for child in own)
    }
    return msgspec.structs.replace(item, **fields) if fields else item


def with_things(shot: Shot, changed: dict[str, msgspec.Struct]) -> Shot:
    """The shot with these things, by id, in place of the old ones."""
    fields: dict = {
        kind: tuple(changed.get(x.id, x) for x in getattr(shot, kind)) for kind in LISTS if any(x.id in changed for x in getattr(shot, kind))
    }
    fields.update({name: changed[name] for name in SINGLES if name in changed})
    if any(own for o in shot.objects for own in owned(o).values()):
        fields["objects"] = tuple(_with_owned(o, changed) for o in fields.get("objects", shot.objects))
    return msgspec.structs.replace(shot, **fields) if fields else shot


def without_thing(shot: Shot, id_: str) -> Shot:
    """The shot less the thing with this id of one of its lists; `edits.arrange.removed` is for objects, which have parents among each other."""
    fields: dict = {kind: tuple(x for x in getattr(shot, kind) if x.id != id_) for kind in LISTS if any(x.id == id_ for x in getattr(shot, kind))}
    owner = owner_of(shot, id_)
    if owner:
        item = next(o for o in shot.objects if o.id == owner)
        rest = {name: tuple(child for child in own if child.id != id_) for name, own in owned(item).items()}
        fields["objects"] = tuple(msgspec.structs.replace(o, **rest) if o.id == owner else o for o in shot.objects)
    return msgspec.structs.replace(shot, **fields) if fields else shot


def with_fields(shot: Shot, id_: str, **fields: Any) -> Shot:
    """The shot with fields of the thing with this id changed; as it is where there is no such thing."""
    thing = keyed_thing(shot, id_)
    return shot if thing is None else with_things(shot, {id_: msgspec.structs.replace(thing, **fields)})


def with_value(shot: Shot, id_: str, part: str, change: Callable[[Keyed], Keyed]) -> Shot:
    """The shot with one keyed value changed, of the thing with this id; as it is where there is no such value."""
    thing = keyed_thing(shot, id_)
    old = getattr(thing, part, None)
    if thing is None or not isinstance(old, Keyed):
        return shot
    return with_things(shot, {id_: msgspec.structs.replace(thing, **{part: change(old)})})


def change_keys(shot: Shot, chosen: Chosen, change: Callable[[Keyed, list[float]], Keyed]) -> Shot:
    """Each value that has chosen keys, changed by a function of the value and the frames of those keys."""
    by_value: dict[tuple[str, str], list[float]] = {}
    for id_, part, frame in sorted(chosen):
        by_value.setdefault((id_, part), []).append(frame)
    things = keyed_things(shot)
    changed: dict[str, msgspec.Struct] = {}
    for (id_, part), frames in by_value.items():
        thing = changed.get(id_, things.get(id_))
        old = getattr(thing, part, None)
        if thing is not None and isinstance(old, Keyed):
            changed[id_] = msgspec.structs.replace(thing, **{part: change(old, frames)})
    return with_things(shot, changed)


def whole_motion(shot: Shot, id_: str) -> Chosen:
    """All keys of a thing, and of its layers and movers."""
    thing = keyed_thing(shot, id_)
    if thing is None:
        return frozenset()
    things = {id_: thing, **{child.id: child for own in owned(thing).values() for child in own}}
    return frozenset((name, part, k.frame) for name, one in things.items() for part, value in keyed_parts(one).items() for k in value.keys)


# keys -----------------------------------------------------------------------------------------------------------------------


def _of(keys: Iterable[Key], value: Keyed) -> Keyed:
    return Keyed(value.value, tuple(sorted(keys, key=lambda k: k.frame)))


def moved_keys(value: Keyed, frames: list[float], by: float, copy: bool = False) -> Keyed:
    """The keys at these frames go `by` frames, or copies of them; a key that one lands on gives way."""
    held = [k for k in value.keys if k.frame in frames]
    landed = [msgspec.structs.replace(k, frame=k.frame + by) for k in held]
    there = {k.frame for k in landed}
    rest = [k for k in value.keys if k.frame not in there and (copy or k.frame not in frames)]
    return _of((*rest, *landed), value)


def without_keys(value: Keyed, frames: list[float]) -> Keyed:
    for frame in frames:
        value = value.without_key(frame)
    return value


def eased(value: Keyed, frames: list[float], easing: str) -> Keyed:
    """Another easing from these keys on; a free one begins with the shape that it had."""
    return _of((k.eased(easing) if k.frame in frames else k for k in value.keys), value)


def shaped(value: Keyed, frame: float, handles: tuple[float, float, float, float]) -> Keyed:
    """Free handles for the key at the frame. Their times stay within 0..1, so that there is one value at each time."""
    x1, y1, x2, y2 = handles
    handles = (min(max(x1, 0.0), 1.0), y1, min(max(x2, 0.0), 1.0), y2)
    return _of((msgspec.structs.replace(k, easing="free", handles=handles) if k.frame == frame else k for k in value.keys), value)


def speed(value: Keyed, frames: np.ndarray, fps: float) -> np.ndarray:
    """How fast a value with keys changes at each of `frames` (n,): its length in units per second, by central differences."""
    half = 0.05
    ahead, back = (value.over(frames + s) for s in (half, -half))
    return np.linalg.norm(ahead - back, axis=1) / (2 * half) * fps


# motions that are generated ---------------------------------------------------------------------------------------------------


def _span(value: Keyed, frames: list[float], least: int = 2) -> list[Key]:
    """The keys between the first and the last chosen one; all keys when fewer than two are chosen."""
    keys = [k for k in value.keys if frames[0] <= k.frame <= frames[-1]] if len(frames) > 1 else list(value.keys)
    if len(keys) < least:
        raise UserError(f"That takes at least {least} keys.", "Key the value at two frames first, then ask again.")
    return keys


def constant_speed(value: Keyed, frames: list[float]) -> Keyed:
    """Straight from key to key, at one speed all the way: the inner keys go to the times that their places on the way call for.

    What stands still for its whole length stays as it is. Raises UserError with fewer than two keys.
    """
    keys = _span(value, frames)
    steps = [math.dist(a.value, b.value) for a, b in zip(keys, keys[1:], strict=False)]
    total, first, last = sum(steps), keys[0].frame, keys[-1].frame
    if total == 0:
        return value
    fresh: list[Key] = []
    gone = 0.0
    for key, step in zip(keys, [*steps, 0.0], strict=True):
        at = first + (last - first) * gone / total
        # two keys with the same value would fall on one frame: the later one says it all
        if fresh and at - fresh[-1].frame < 1e-6:
            fresh.pop()
        fresh.append(msgspec.structs.replace(key, frame=at, easing="linear" if key is not keys[-1] else key.easing))
        gone += step
    taken = {k.frame for k in keys}
    return _of([*(k for k in value.keys if k.frame not in taken), *fresh], value)


def looped(value: Keyed, frames: list[float], last: float, how: str = "again") -> Keyed:
    """The motion of the chosen keys repeated up to frame `last`, as keys. how: one of LOOPS.

    'again' begins anew each time, 'there and back' runs backward every second time, 'onwards' goes on from where it ended.
    Keys after the motion that was chosen give way. Raises UserError with fewer than two keys, or for a loop that would take
    more than 1,000.
    """
    keys = _span(value, frames)
    first, length = keys[0].frame, keys[-1].frame - keys[0].frame
    closed = keys[0].value == keys[-1].value
    # a motion that does not end where it began jumps back within one frame
    gap = 0.0 if closed or how != "again" else 1.0
    rounds = math.ceil((last - first) / (length + gap))
    if rounds * len(keys) > 1000:
        raise UserError("That loop would take more than 1,000 keys.", "Loop a longer motion, or shorten the shot by its in and out points.")
    backward = _backward(keys)
    by = [b - a for a, b in zip(keys[0].value, keys[-1].value, strict=True)]
    fresh = [k for k in value.keys if k.frame < first]
    for i in range(max(rounds, 1)):
        turn = backward if how == "there and back" and i % 2 else keys
        shift = [d * i for d in by] if how == "onwards" else [0.0] * len(by)
        fresh = [k for k in fresh if k.frame < first + i * (length + gap)]
        for key in turn:
            moved = tuple(v + s for v, s in zip(key.value, shift, strict=True))
            jump = gap and key is turn[-1]
            fresh.append(msgspec.structs.replace(key, frame=key.frame + i * (length + gap), value=moved, easing="linear" if jump else key.easing))
    return _of(fresh, value)


def _backward(keys: list[Key]) -> list[Key]:
    """The same way run from its end to its beginning, within the same frames."""
    first, last = keys[0].frame, keys[-1].frame
    result = []
    for i, key in enumerate(reversed(keys)):
        before = keys[len(keys) - 2 - i] if i < len(keys) - 1 else None
        (x1, y1, x2, y2), easing = (before.curve, before.easing) if before is not None else (key.curve, key.easing)
        result.append(Key(first + last - key.frame, key.value, "hold" if easing == "hold" else "free", (1 - x2, 1 - y2, 1 - x1, 1 - y1)))
    return result


def bounced(value: Keyed, frames: list[float], restitution: float = 0.5, least: float = 0.01) -> Keyed:
    """The last step of the motion falls, and bounces where it arrives until a bounce is under `least` of the fall.

    Each bounce takes `restitution` of the time of the one before and rises by its square, as a ball does that keeps that share
    of its speed (uniform acceleration, coefficient of restitution: any mechanics text). Raises UserError with fewer than two
    keys or a restitution outside 0..1.
    """
    if not 0 < restitution < 1:
        raise UserError(f"A bounce cannot keep {restitution * 100:.0f} % of its speed.", "Give a share between 0 and 100 %.")
    keys = _span(value, frames)
    start, end = keys[-2], keys[-1]
    fall = end.frame - start.frame
    fresh = [*(k for k in value.keys if k.frame < start.frame), msgspec.structs.replace(start, easing="free", handles=FALL)]
    at, height, time = end.frame, restitution**2, restitution * fall
    while height > least and time > 0.5:
        fresh.append(Key(at, end.value, "free", RISE))
        fresh.append(Key(at + time, _between(end.value, start.value, height), "free", FALL))
        at, height, time = at + 2 * time, height * restitution**2, time * restitution
    fresh.append(msgspec.structs.replace(end, frame=at))
    return _of([*fresh, *(k for k in value.keys if k.frame > at)], value)


def overshot(value: Keyed, frames: list[float], share: float = 0.2, least: float = 0.005) -> Keyed:
    """The last step of the motion runs past its end by `share` of its way, and swings in until a swing is under `least` of it.

    Each swing is `share` of the one before, on the other side, as a damped spring does (step response of a second-order
    system: Ogata, Modern Control Engineering, ch. 5; from memory). Raises UserError with fewer than two keys or a share
    outside 0..1.
    """
    if not 0 < share < 1:
        raise UserError(f"A swing cannot run {share * 100:.0f} % past its end.", "Give a share between 0 and 100 %.")
    keys = _span(value, frames)
    start, end = keys[-2], keys[-1]
    half = max(0.5 * (end.frame - start.frame), 1.0)
    fresh = [*(k for k in value.keys if k.frame < start.frame), msgspec.structs.replace(start, easing="free", handles=SWING)]
    at, past = end.frame, share
    while abs(past) > least:
        fresh.append(Key(at, _between(end.value, start.value, -past), "free", SWING))
        at, past = at + half, -past * share
    fresh.append(msgspec.structs.replace(end, frame=at))
    return _of([*fresh, *(k for k in value.keys if k.frame > at)], value)


def flickered(value: Keyed, frames: list[float], seed: int = 1) -> Keyed:
    """A number that falls and comes back at random between its first and its last key, as the light of a bad tube does; steps, as keys.

    How long it stays on and off is drawn from exponential distributions of LIT and OUT frames, as if each frame were as likely to be the
    last (a Markov chain of two states). The same frames and seed give the same steps, so that a lamp and what glows go together. Raises
    UserError with fewer than two keys, for what is not one number, and over more than 5,000 frames.
    """
    keys = _span(value, frames)
    first, last = keys[0].frame, keys[-1].frame
    if len(value.value) != 1:
        raise UserError("Only a single number can flicker.", "Choose keys of a strength, a glow or an opacity.")
    if last - first > 5000:
        raise UserError("That would take more than 1,000 keys.", "Key a shorter part and ask again.")
    rng = np.random.default_rng(seed)
    fresh, at, lit = [], first, True
    while at < last:
        held = value.at(at)[0]
        fresh.append(Key(at, (held if lit else held * float(rng.uniform(*DIP)),), "hold"))
        at, lit = at + max(1.0, round(rng.exponential(LIT if lit else OUT))), not lit
    rest = (k for k in value.keys if k.frame < first or k.frame > last)
    return _of([*rest, *fresh, keys[-1]], value)


def _between(a: Value, b: Value, share: float) -> Value:
    return tuple(x + (y - x) * share for x, y in zip(a, b, strict=True))
