"""Keyed turns in other axes: every key keeps the whole turns, and the way round, that lead to it."""

from collections.abc import Callable

import msgspec
import numpy as np

from ..basics.geometry import F64, near_turn, turn_from_matrix
from ..basics.keyed import Keyed, Value

STEP_DEG, STEP_FRAMES = 15.0, 0.5  # how finely a way is walked; from one step to the next no angle may turn by half a round


def turned(value: Keyed, rotation: Callable[[float, Value], F64]) -> Keyed:
    """A keyed turn (heading, pitch, roll in degrees) after each of its rotations became another.

    rotation(frame, turn) -> (3, 3) says which. Between two keys the way is walked in small steps, and each step is written by
    the angles next to those of the step before: 0 to 720 degrees stays two whole turns, and 170 to 190 stays 20 degrees.
    """
    if not value.keys:
        return Keyed(near_turn(turn_from_matrix(rotation(0.0, value.value)), value.value))
    first = value.keys[0]
    now = near_turn(turn_from_matrix(rotation(first.frame, first.value)), first.value)
    keys = [msgspec.structs.replace(first, value=now)]
    for a, b in zip(value.keys, value.keys[1:]):
        way = np.subtract(b.value, a.value)
        steps = int(max(np.ceil(np.abs(way).max() / STEP_DEG), np.ceil((b.frame - a.frame) / STEP_FRAMES), 1))
        for k in range(1, steps + 1):
            share = k / steps
            turn = tuple(float(v) for v in np.array(a.value) + share * way)
            now = near_turn(turn_from_matrix(rotation(a.frame + share * (b.frame - a.frame), turn)), now)
        keys.append(msgspec.structs.replace(b, value=now))
    return Keyed(keys[0].value, tuple(keys))
