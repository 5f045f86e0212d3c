"""One side of a card, box or tube moved, while the side across from it stays where it is."""

import msgspec
import numpy as np

from ..basics.keyed import How
from ..evaluate.kinds import kind_of
from ..evaluate.lettering import LEAST
from ..evaluate.objects import pose_of
from ..scene.poses import size_of
from ..shot.document import Shot
from ..shot.objects import Object
from .arrange import ground_under, place_of, with_pose


def side_moved(shot: Shot, item: Object, frame: float, how: How, name: str, by: float) -> Object:
    """The object with its side `name` (as `Kind.sides` tells them) moved outward by so many scene units, inward where it is less than 0.

    It never gets thinner than LEAST. The side across stays: what the pivot's way of growing would move is taken back by the place.
    """
    kind = kind_of(item)
    side = kind.sides(item, frame)[name]
    size = size_of(pose_of(shot, item, frame))
    value = getattr(item, side.part)
    now = value.at(frame)
    fresh = tuple(max(v + by / size, LEAST) if i == side.component else v for i, v in enumerate(now))
    grown = msgspec.structs.replace(item, **{side.part: value.changed(frame, fresh, how)})
    across, there = _middle_across(item, name, frame), _middle_across(grown, name, frame)
    m = pose_of(shot, item, frame)[:3, :3]
    shift = m @ (across - there)
    if not np.any(shift):
        return grown
    return with_pose(shot, grown, frame, how, at=place_of(shot, item, frame) + shift)


def _middle_across(item: Object, name: str, frame: float) -> np.ndarray:
    """(3,) the middle of the side across from this one, in own axes."""
    sides = kind_of(item).sides(item, frame)
    along = sides[name].along
    return next(other.at for other in sides.values() if other.along @ along < -0.5)


def to_the_ground(shot: Shot, item: Object, frame: float) -> float | None:
    """By how many scene units the foot of an object is to be moved outward to stand on the ground; None where its axis does not meet it
    below, or where the object has no foot to move."""
    side = kind_of(item).sides(item, frame).get("foot")
    if side is None:
        return None
    m = pose_of(shot, item, frame)
    foot, down = m[:3, :3] @ side.at + m[:3, 3], m[:3, :3] @ side.along / size_of(m)
    if down[2] > -0.1:  # it lies nearly level
        return None
    return float((foot[2] - ground_under(shot, foot, frame)) / -down[2])
