"""Another sky in place of the plate's, and the turn that brings a place of it under the pointer."""

from typing import NamedTuple

import msgspec
import numpy as np

from ..basics.errors import UserError
from ..basics.geometry import F64
from ..basics.keyed import How, constant
from ..evaluate.lights import sky_picture
from ..evaluate.old_sky import OldSky, median_luminance
from ..finish.backdrop import Backdrop
from ..light.skies import HIGH_DEG, LUMINANCE, SUN_HEIGHTS
from ..matte.key import Keyer
from ..media.pictures import picture_size
from ..shot.document import Shot
from .arrange import new_id
from .lights import sun_of

# by which a new sky is made as bright as the old one; that is often cut at white, as the new one shall not be
LEAST_STOPS, MOST_STOPS = -6.0, 0.5
USUAL_DEG = 70.0  # of the horizon that a picture covers at first


def with_new_sky(shot: Shot, old: OldSky) -> Shot:
    """The shot with its sky replaced where the old one was found; a key that told it before gets its colours. What is new has the light of the old sky and
    the haze of the place."""
    backdrop = msgspec.structs.replace(shot.backdrop, on=True, horizon=constant(old.ends), own_light=old.luminance)
    held = next((m for m in shot.mattes if m.id in backdrop.mattes and isinstance(m, Keyer) and m.by == "colour"), None)
    if held is not None:
        mattes = tuple(msgspec.structs.replace(m, samples=old.key.samples, far=old.key.far) if m is held else m for m in shot.mattes)
        return msgspec.structs.replace(shot, mattes=mattes, backdrop=backdrop)
    key = msgspec.structs.replace(old.key, id=new_id())
    backdrop = msgspec.structs.replace(backdrop, mattes=(key.id,))
    if old.far is not None:
        backdrop = msgspec.structs.replace(backdrop, haze_colour=old.far[0], haze=constant(round(old.far[1], 2)))
    shot = msgspec.structs.replace(shot, mattes=(*shot.mattes, key), backdrop=backdrop)
    return with_kind_of_sky(shot, backdrop.kind)


def with_kind_of_sky(shot: Shot, kind: str) -> Shot:
    """The shot with another of the skies that are made here, as bright as the plate's own was, where that is known."""
    return _as_bright(shot, msgspec.structs.replace(shot.backdrop, kind=kind), LUMINANCE.get(kind, 0.0))


class SkyPicture(NamedTuple):
    """width: degrees of the horizon that it covers; luminance: the median of it up to 30 degrees over its horizon, white 1."""

    path: str
    width: float
    luminance: float


def read_sky(path: str) -> SkyPicture:
    """A picture, movie or panorama as a sky, by its first frame. Twice as wide as high is a panorama of the full sphere; another covers as much of the
    horizon as a usual lens shows. Raises PlateError where it cannot be read."""
    wide, high = picture_size(path)
    width = 360.0 if wide == 2 * high else USUAL_DEG
    light, top, span = sky_picture(Backdrop(kind="picture", picture=path, width=constant(width)), 0)
    heights = top - span * (np.arange(len(light)) + 0.5) / light.shape[1]
    return SkyPicture(path, width, median_luminance(light[(heights > 0) & (heights < np.deg2rad(HIGH_DEG))]))


def with_picture_of_sky(shot: Shot, sky: SkyPicture, frame: int, how: How) -> Shot:
    """The shot with a picture as its sky, as bright as the plate's own was, where that is known. One that was its sky before covers as much as it did."""
    width = shot.backdrop.width
    if sky.path != shot.backdrop.picture:
        width = width.changed(frame, (sky.width,), how)
    return _as_bright(shot, msgspec.structs.replace(shot.backdrop, kind="picture", picture=sky.path, width=width), sky.luminance)


def _as_bright(shot: Shot, backdrop: Backdrop, luminance: float) -> Shot:
    """The shot with a sky of this luminance made as bright as the plate's own; an exposure that was set by hand is left."""
    if luminance > 0 and backdrop.own_light > 0 and backdrop.exposure == constant(backdrop.matched):
        stops = round(float(np.clip(np.log2(backdrop.own_light / luminance), LEAST_STOPS, MOST_STOPS)), 2)
        backdrop = msgspec.structs.replace(backdrop, exposure=constant(stops), matched=stops)
    return msgspec.structs.replace(shot, backdrop=backdrop)


def with_sun_in_place(shot: Shot, frame: int, how: How) -> Shot:
    """The sky turned so that its sun stands where the shot's does. Raises UserError where one of them has none."""
    sun, sky = sun_of(shot), shot.backdrop
    if sun is None or not sun.on:
        raise UserError("The shot has no sun.", "Read it from a shadow first, at Light.")
    if sky.kind not in SUN_HEIGHTS:
        raise UserError("Where the sun of a picture stands is not known.", "Drag the sky until it agrees with the shadows.")
    heading = sky.heading.changed(frame, (round(sun.bearing.at(frame)[0], 3),), how)
    tilt = sky.tilt.changed(frame, (round(sun.height.at(frame)[0] - SUN_HEIGHTS[sky.kind], 3),), how)
    return msgspec.structs.replace(shot, backdrop=msgspec.structs.replace(sky, heading=heading, tilt=tilt))


def turned_sky(shot: Shot, which: str, frame: int, before: F64, now: F64, how: How) -> Shot:
    """The sky or the surroundings (`which` is the field of the shot) turned so that what lay in direction `before` (3,) of the scene lies in `now`
    (3,)."""
    bearing = lambda d: np.rad2deg(np.arctan2(d[0], d[1]))
    rise = lambda d: np.rad2deg(np.arcsin(np.clip(d[2], -1, 1)))
    around = (float(bearing(now) - bearing(before)) + 180) % 360 - 180
    far = getattr(shot, which)
    heading = far.heading.changed(frame, (round(far.heading.at(frame)[0] + around, 3),), how)
    tilt = far.tilt.changed(frame, (round(float(np.clip(far.tilt.at(frame)[0] + rise(now) - rise(before), -90, 90)), 3),), how)
    return msgspec.structs.replace(shot, **{which: msgspec.structs.replace(far, heading=heading, tilt=tilt)})
