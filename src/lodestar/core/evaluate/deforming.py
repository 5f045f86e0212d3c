"""What deforms a title or logo at a frame."""

import msgspec

from ..basics.geometry import F64
from ..basics.keyed import Keyed
from ..shape.deform import Bent, Deformation, Pulled, Smeared, Twisted, Waved
from ..shot.objects import AXES, Bend, Deforming, Extruded, Pull, Smear, Twist, Wave

LEAST = 1e-4  # metres; nothing is thinner


def deformations(item: Extruded, box: tuple[F64, F64], frame: float) -> tuple[Deformation, ...]:
    """What deforms an object. box: low and high corner (3,) of the object as it is without, in heights."""
    return tuple(found for one in item.deforms if one.on and (found := _deformation(one, box, frame)) is not None)


def changes(item: Extruded) -> bool:
    """Whether what deforms the object is keyed."""
    return any(isinstance(value, Keyed) and value.keys for one in item.deforms if one.on for value in msgspec.structs.astuple(one))


def _deformation(one: Deforming, box: tuple[F64, F64], frame: float) -> Deformation | None:
    """In steps that cannot be seen, by which deformed solids are kept; None where it does nothing."""
    at = lambda value: tuple(round(v, 4) for v in value.at(frame))
    low, high = box
    middle, extent = tuple(float(round(v, 4)) for v in (low + high) / 2), [max(round(float(v), 4), LEAST) for v in high - low]
    match one:
        case Smear():
            by = tuple(b - a for a, b in zip(at(one.point), at(one.to)))
            return Smeared(at(one.point), by, max(at(one.radius)[0], LEAST), at(one.soft)[0]) if any(by) else None
        case Pull():
            return Pulled(at(one.point), at(one.amount)[0], max(at(one.radius)[0], LEAST), at(one.soft)[0]) if at(one.amount)[0] else None
        case Wave():
            return Waved(at(one.swing), max(at(one.length)[0], LEAST), at(one.phase)[0]) if any(at(one.swing)) else None
        case Twist():
            axis = AXES.index(one.axis)
            return Twisted(axis, at(one.angle)[0], middle, extent[axis]) if at(one.angle)[0] else None
        case Bend():
            along, towards = {"up": (0, 1), "away": (0, 2), "across": (2, 1)}[one.axis]
            # a title that leans stays on its base line; one that is curved, in its middle
            about = (*middle[:2], 0.0) if along == 2 else middle
            return Bent(along, towards, at(one.angle)[0], about, extent[along]) if abs(at(one.angle)[0]) > 1e-3 else None
    return None
