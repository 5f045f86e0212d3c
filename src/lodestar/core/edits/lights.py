"""Changes to the lamps of a shot, each a function from a shot to a shot."""

import msgspec
import numpy as np

from ..basics.keyed import constant
from ..light.lamps import Sky, Sun
from ..light.sun import bearing_and_height, from_shadows
from ..shot.document import ShadowLine, Shot


def sun_of(shot: Shot) -> Sun | None:
    """The first sun; None where there is none."""
    return next((lamp for lamp in shot.lamps if isinstance(lamp, Sun)), None)


def sky_of(shot: Shot) -> Sky | None:
    """The first sky; None where there is none."""
    return next((lamp for lamp in shot.lamps if isinstance(lamp, Sky)), None)


def with_shadow_lines(shot: Shot, lines: tuple[ShadowLine, ...]) -> Shot:
    """The shot with these shadows of the place, and the sun where they say; without any the sun stays where it is.

    Raises UserError for a shadow without length.
    """
    shot = msgspec.structs.replace(shot, shadow=msgspec.structs.replace(shot.shadow, lines=lines))
    if not lines:
        return shot
    mean, _ = from_shadows(np.array([s.foot for s in lines]), np.array([s.tip for s in lines]), np.array([s.height for s in lines]))
    bearing, height = (constant(round(v, 2)) for v in bearing_and_height(mean))
    old = sun_of(shot)
    if old is None:
        return msgspec.structs.replace(shot, lamps=(Sun(bearing=bearing, height=height), *shot.lamps))
    sun = msgspec.structs.replace(old, bearing=bearing, height=height, on=True)
    return msgspec.structs.replace(shot, lamps=tuple(sun if lamp is old else lamp for lamp in shot.lamps))
