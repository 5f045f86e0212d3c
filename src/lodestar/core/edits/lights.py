"""Changes to the lamps of a shot, each a function from a shot to a shot."""

import msgspec
import numpy as np

from ..basics.geometry import F64
from ..basics.keyed import How, constant
from ..evaluate.objects import box_of, pose_of
from ..light.lamps import Area, Sky, Spot, Sun
from ..light.sun import bearing_and_height, from_shadows
from ..scene.poses import moved
from ..shot.document import ShadowLine, Shot
from ..shot.motion import with_things
from .arrange import new_id


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


def with_surroundings(shot: Shot, kind: str, picture: str = "") -> Shot:
    """The shot lit by surroundings of this kind, in place of the even sky. Their own sun shines in place of the sun lamp, unless that was read
    from shadows of the place: it knows better."""
    known = bool(shot.shadow.lines) and any(isinstance(lamp, Sun) and lamp.on for lamp in shot.lamps)
    off = (Sky,) if known else (Sky, Sun)
    lamps = tuple(msgspec.structs.replace(lamp, on=False) if isinstance(lamp, off) else lamp for lamp in shot.lamps)
    fields: dict = {"picture": picture} if picture else {}
    sky = sky_of(shot)
    if known and sky is not None and not shot.surroundings.on:
        fields["strength"] = sky.strength  # beside the sun they are what the sky was
    changed = msgspec.structs.replace(shot.surroundings, on=True, kind=kind, sun=not known, **fields)
    return msgspec.structs.replace(shot, lamps=lamps if not shot.surroundings.on else shot.lamps, surroundings=changed)


def without_surroundings(shot: Shot) -> Shot:
    """The shot lit by its sky, and its sun, again."""
    lamps = tuple(msgspec.structs.replace(lamp, on=True) if isinstance(lamp, Sky | Sun) else lamp for lamp in shot.lamps)
    return msgspec.structs.replace(shot, lamps=lamps, surroundings=msgspec.structs.replace(shot.surroundings, on=False))


# lamps that are near ---------------------------------------------------------------------------------------------------------------

KINDS: dict[str, type[Area] | type[Spot]] = {"Area lamp": Area, "Spot": Spot}
BESIDE, OVER = 1.2, 1.6  # heights of what it shines at, that a new lamp stands before and over it (common practice, no source)
AIM = 2.0  # units away, of the mark at what a lamp shines at, where nothing of ours says how far


def near_lamps(shot: Shot) -> list[Area | Spot]:
    return [lamp for lamp in shot.lamps if isinstance(lamp, Area | Spot)]


def with_lamp(shot: Shot, kind: str, at: str, eye: F64, frame: float) -> tuple[Shot, str]:
    """The shot with one lamp more, of KINDS; with its id. at: id of the object that it shines at, from above and the side of the eye (3,);
    without one it shines down on the origin."""
    item = next((o for o in shot.objects if o.id == at), None)
    lamp = KINDS[kind](id=new_id())
    if item is None:
        return msgspec.structs.replace(shot, lamps=(*shot.lamps, lamp)), lamp.id
    low, high = box_of(item, frame)
    middle, size = moved(pose_of(shot, item, frame), (low + high) / 2), float(np.linalg.norm(high - low))
    towards = (np.asarray(eye) - middle) * [1, 1, 0]
    side = np.array([-towards[1], towards[0], 0.0]) / max(float(np.linalg.norm(towards)), 1e-9)
    forward = towards / max(float(np.linalg.norm(towards)), 1e-9)
    height = max(float(high[2] - low[2]), 0.3 * size)
    place = middle + height * (BESIDE * (forward + 0.6 * side) + [0, 0, OVER])
    lamp = msgspec.structs.replace(lamp, position=constant(*np.round(place, 3)))
    if isinstance(lamp, Area):
        lamp = msgspec.structs.replace(lamp, size=constant(round(0.8 * height, 3), round(0.8 * height, 3)))
    else:  # as bright as the sun on what it shines at
        away = float(np.linalg.norm(place - middle))
        lamp = msgspec.structs.replace(lamp, strength=constant(round(1.2 * away**2, 3)), radius=constant(round(0.05 * height, 4)))
    shot = msgspec.structs.replace(shot, lamps=(*shot.lamps, lamp))
    return aimed(shot, lamp.id, middle, frame, "whole"), lamp.id


def put_lamp(shot: Shot, id_: str, place: F64, frame: float, how: How) -> Shot:
    """The lamp at a place (3,), shining at what it shone at."""
    lamp = next(one for one in near_lamps(shot) if one.id == id_)
    aim = aim_of(shot, lamp, frame)
    position = lamp.position.changed(frame, tuple(float(v) for v in place), how)
    return aimed(with_things(shot, {id_: msgspec.structs.replace(lamp, position=position)}), id_, aim, frame, how)


def aimed(shot: Shot, id_: str, at: F64, frame: float, how: How) -> Shot:
    """The lamp shining at a place (3,)."""
    lamp = next(one for one in near_lamps(shot) if one.id == id_)
    d = np.asarray(at, float) - lamp.position.at(frame)
    flat = float(np.hypot(d[0], d[1]))
    if flat < 1e-9 and abs(d[2]) < 1e-9:
        return shot
    old = lamp.turn.at(frame)
    heading = float(np.rad2deg(np.arctan2(-d[0], d[1]))) if flat > 1e-9 else old[0]
    heading += 360 * round((old[0] - heading) / 360)  # the nearer way round
    turn = lamp.turn.changed(frame, (heading, float(np.rad2deg(np.arctan2(d[2], flat)))), how)
    return with_things(shot, {id_: msgspec.structs.replace(lamp, turn=turn)})


def aim_of(shot: Shot, lamp: Area | Spot, frame: float) -> F64:
    """(3,) where a lamp shines to: on the level ground where it meets that within sight, else a few units away."""
    heading, pitch = np.deg2rad(lamp.turn.at(frame))
    d = np.array([-np.sin(heading) * np.cos(pitch), np.cos(heading) * np.cos(pitch), np.sin(pitch)])
    place = np.array(lamp.position.at(frame))
    away = place[2] / -d[2] if d[2] < -1e-6 and place[2] > 0 else np.inf
    middles = [moved(pose_of(shot, o, frame), np.mean(box_of(o, frame), axis=0)) for o in shot.objects if o.visible and o.drawn and o.BODY]
    nearest = [float((middle - place) @ d) for middle in middles]
    nearest = [a for a in nearest if a > 0]
    return place + d * min(away, *nearest, 20 * AIM) if np.isfinite(away) or nearest else place + AIM * d
