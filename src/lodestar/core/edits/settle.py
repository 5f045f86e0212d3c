"""Other tracks, another solve, another ground: what speaks of them goes along, and stays where it is in the picture.

`with_tracks`, `with_solve` and `with_ground` are the only ways to change these (a shot refuses any other): they return a shot
that agrees with itself. What names tracks gets their new numbers; objects, lines of shadows and the sun keep their place in
the picture.
"""

from collections.abc import Callable
from typing import Any

import msgspec
import numpy as np

from ..basics.geometry import Similarity, fit_similarity, turn_from_matrix, turn_matrix, vector
from ..basics.keyed import Key, Keyed
from ..evaluate.cameras import camera_at, scene_frame
from ..evaluate.objects import pose_of
from ..light.lamps import Area, Lamp, Spot, Sun
from ..light.sun import bearing_and_height, direction
from ..matte.sources import Outline
from ..scene.ground import Ground
from ..scene.surfaces import on_ground
from ..shot.document import ShadowLine, Shot, rebased
from ..shot.objects import Object, Solid
from ..solve.result import Solve
from ..track.edit import renumbering
from ..track.tracks import Tracks
from .turns import turned

FAR, ON_GROUND = 200.0, 0.03  # metres; and so near to the ground, for its distance, it stands on it
LEVEL_DEG = 3.0  # a new solve's idea of up differs by less; then what stood upright goes on standing upright
LEAST_FACTOR = 0.001  # an object's own factor is told from that of the scene only beyond this
RENUMBER = -1
LINEAGE_SAMPLE = 50_000  # observations by which two sets of tracks are compared


def with_tracks(shot: Shot, tracks: Tracks | None) -> Shot:
    """The shot with other tracks; ground, objects and the solve's points name them by their new numbers."""
    if tracks is shot.tracks:
        return shot
    if tracks is None or shot.tracks is None or same_lineage(shot.tracks, tracks):
        return rebased(shot, tracks=tracks)
    return _carried(shot, _renumbered(shot, tracks))


def with_solve(shot: Shot, solve: Solve | None) -> Shot:
    """The shot with another solve, of the tracks that it holds; objects and light stay where they were in the picture."""
    return shot if solve is shot.solve else _carried(shot, rebased(shot, solve=solve))


def with_ground(shot: Shot, ground: Ground) -> Shot:
    """The shot with another ground; objects and light stay where they were in the picture."""
    return shot if ground == shot.ground else _carried(shot, rebased(shot, ground=ground))


def _carried(before: Shot, after: Shot) -> Shot:
    """`after` with objects and light where they were in the picture of `before`, in whose scene they still stand."""
    if after.solve is None:
        return after
    if before.solve is None:
        return _arrived(before, after)
    if all(getattr(after, name) == getattr(Shot(), name) for name in ("objects", "lamps", "shadow", "surroundings", "backdrop", "focus")):
        return after
    old, new = scene_frame(before), scene_frame(after)
    if after.solve is before.solve or np.array_equal(after.solve.R, before.solve.R):
        if _same(old, new):
            return after
        between = new.after(old.inverse())
        return _moved(after, lambda item: between, between, False)
    between = _between(before, after)
    return _moved(after, lambda item: _seen_as_large(item, before, after, _shifted(between, _slide(item, before, after, between))), between, True)


def _same(a: Similarity, b: Similarity) -> bool:
    return a.scale == b.scale and np.array_equal(a.R, b.R) and np.array_equal(a.t, b.t)


# tracks that were made anew -----------------------------------------------------------------------------------------------------


def _renumbered(before: Shot, tracks: Tracks) -> Shot:
    """The shot with tracks that were made anew, and with what speaks of tracks in their numbers; what has none is dropped."""
    assert before.tracks is not None
    number = renumbering(before.tracks, tracks)
    count = before.tracks.count
    new = lambda t: int(number[t]) if 0 <= t < count else RENUMBER
    some = lambda ts: tuple(dict.fromkeys(n for t in ts if (n := new(t)) >= 0))
    said = before.ground
    ground = msgspec.structs.replace(
        said,
        on_ground=some(said.on_ground),
        origin=None if said.origin is None or new(said.origin) < 0 else new(said.origin),
        spans=tuple(msgspec.structs.replace(s, a=new(s.a), b=new(s.b)) for s in said.spans if min(new(s.a), new(s.b)) >= 0),
    )
    objects = tuple(o.on_tracks([new(t) for t in o.tracks]) if o.tracks else o for o in before.objects)
    mattes = tuple(msgspec.structs.replace(m, carried=some(m.carried)) if isinstance(m, Outline) and m.carried else m for m in before.mattes)
    solve = before.solve
    if solve is not None:
        ids = np.array([new(int(t)) for t in solve.point_ids])
        _, first = np.unique(ids, return_index=True)
        keep = np.sort(first[ids[first] >= 0])
        by_point = {name: getattr(solve, name)[keep] for name in ("xyz", "point_error", "colours") if len(getattr(solve, name))}
        solve = msgspec.structs.replace(solve, point_ids=ids[keep].astype(np.int32), **by_point)
    return rebased(before, tracks=tracks, ground=ground, objects=objects, mattes=mattes, solve=solve)


def same_lineage(old: Tracks, new: Tracks) -> bool:
    """Whether `new` was edited from `old`, in which tracks keep their numbers: most observations are the same to the bit."""
    if len(old.frame) == 0 or all(getattr(old, part) is getattr(new, part) for part in ("frame", "track", "xy")):
        return True
    if len(new.frame) == 0:
        return False
    size = int(max(old.frame.max(), new.frame.max())) + 1
    some = slice(None, None, len(old.frame) // LINEAGE_SAMPLE + 1)  # enough to tell most from few; all of a long clip take 60 ms
    key_old, key_new = old.track[some].astype(np.int64) * size + old.frame[some], new.track.astype(np.int64) * size + new.frame
    at = np.clip(np.searchsorted(key_new, key_old), 0, len(key_new) - 1)
    same = (key_new[at] == key_old) & (new.xy[at] == old.xy[some]).all(1)
    return float(same.mean()) > 0.5


# the first solve ----------------------------------------------------------------------------------------------------------------


def _arrived(before: Shot, after: Shot) -> Shot:
    """`after`, whose camera is the first one, with what was placed without one where it was in the picture of its frame, and as large:
    on the ground where that is seen there, else as far away as it was."""

    def how(item: Object) -> Similarity:
        frame = min(max(item.placed or 0, int(after.solve.frames[0])), int(after.solve.frames[-1]))  # type: ignore[union-attr]
        old, new = camera_at(before, frame), camera_at(after, frame)
        place = np.array(item.position.at(frame))
        pixel, depth = old.project(place)
        if depth <= 0:
            return Similarity(1.0, np.eye(3), np.zeros(3))
        stood = abs(place[2]) < ON_GROUND * float(depth)
        at = on_ground(new, pixel, FAR) if stood else None
        if at is None:
            ray = new.rays(pixel)
            at = new.centre + ray * (float(np.linalg.norm(place - old.centre)) * new.lens.fx / old.lens.fx)
        scale = float(new.project(at)[1] / depth * old.lens.fx / new.lens.fx)
        # upright stays upright: its heading alone goes with the camera's
        turn = turn_matrix((turn_from_matrix(new.R.T @ old.R)[0], 0.0, 0.0))
        return Similarity(scale, turn, at - scale * turn @ place)

    placed = [o.placed is not None for o in after.objects]
    if not any(placed):
        return after
    by_id = {o.id for o in after.objects}
    objects = tuple(
        msgspec.structs.replace(_moved_object(o, how(o), how(o).scale, False, after), placed=None)
        if o.placed is not None and o.parent not in by_id
        else msgspec.structs.replace(o, placed=None)
        for o in after.objects
    )
    return msgspec.structs.replace(after, objects=objects)


# a new solve --------------------------------------------------------------------------------------------------------------------


def _places(shot: Shot) -> dict[int, np.ndarray]:
    assert shot.solve is not None
    return dict(zip(shot.solve.point_ids.tolist(), scene_frame(shot).points(shot.solve.xyz)))


def _between(before: Shot, after: Shot) -> Similarity:
    """From the scene of one solve to that of another, by the cameras that both have and where they look."""
    frames = np.intersect1d(before.solve.frames, after.solve.frames)  # type: ignore[union-attr]
    if len(frames) == 0:
        return scene_frame(after).after(scene_frame(before).inverse())
    old, new = ([camera_at(shot, int(f)) for f in frames] for shot in (before, after))
    a, b = (np.array([c.centre for c in cameras]) for cameras in (old, new))
    turn = fit_similarity(np.concatenate([c.R for c in old]), np.concatenate([c.R for c in new])).R
    both_free = before.solve.motion == after.solve.motion == "free"  # type: ignore[union-attr]
    wide = float(np.linalg.norm(a - a.mean(0)))
    # by the cameras' places alone a size is unsure on a short path: points that both know tell it better
    mine, its = (_places(s) if both_free else {} for s in (before, after))
    shared = sorted(set(mine) & set(its))
    if len(shared) >= 8:
        p, q = (np.array([places[k] for k in shared]) for places in (mine, its))
        eye_p, eye_q = a.mean(0), b.mean(0)
        scale = float(np.median(np.linalg.norm(q - eye_q, axis=1) / np.maximum(np.linalg.norm(p - eye_p, axis=1), 1e-9)))
    elif both_free and wide > 1e-6:
        scale = float(np.linalg.norm(b - b.mean(0)) / wide)
    else:
        scale = 1.0
    return Similarity(scale, turn, b.mean(0) - scale * turn @ a.mean(0))


def _shifted(between: Similarity, by: np.ndarray) -> Similarity:
    return msgspec.structs.replace(between, t=between.t + by)


def _seen_as_large(item: Object, before: Shot, after: Shot, how: Similarity) -> Similarity:
    """`how` with the factor by which the object at its new place is seen as large as it was at its old one.

    With another focal length a solve makes near and far things differ by other factors, so one factor for all is not enough.
    """
    frames = [int(f) for f in np.intersect1d(before.solve.frames, after.solve.frames)]  # type: ignore[union-attr]
    old = np.array(item.position.at(before.first))
    new = how.points(old)
    ratios = [
        (camera_at(after, f).project(new)[1] / camera_at(after, f).lens.fx) / (camera_at(before, f).project(old)[1] / camera_at(before, f).lens.fx)
        for f in frames[:: max(1, len(frames) // 20)]
    ]
    sound = [r for r in ratios if r > 0 and np.isfinite(r)]
    if not sound:
        return how
    scale = float(np.median(sound))
    if abs(scale / how.scale - 1) < LEAST_FACTOR:
        return how
    return Similarity(scale, how.R, new - scale * how.R @ old)


def _slide(item: Object, before: Shot, after: Shot, between: Similarity) -> np.ndarray:
    """(3,) by which the place of an object differs from what the cameras as a whole say: from its own tracks, or else from where
    it was in the pictures."""
    old, new = _places(before), _places(after)
    offsets = [new[t] - between.points(old[t]) for t in item.tracks if t in old and t in new]
    if len(offsets) >= 3:
        return np.median(offsets, axis=0)
    if before.solve.motion != "free" or after.solve.motion != "free":  # type: ignore[union-attr]
        return np.zeros(3)
    frames = [int(f) for f in np.intersect1d(before.solve.frames, after.solve.frames)]  # type: ignore[union-attr]
    point = np.array(item.position.at(before.first))
    guess = between.points(point)
    normal, right = 1e-5 * np.eye(3) * len(frames), np.zeros(3)
    for frame in frames[:: max(1, len(frames) // 40)]:
        pixel, depth = camera_at(before, frame).project(point)
        if depth <= 0:
            continue
        camera = camera_at(after, frame)
        ray = camera.rays(pixel)
        across = np.eye(3) - np.outer(ray, ray)
        normal += across
        right += across @ (camera.centre - guess)
    return np.linalg.solve(normal, right)


# moving what is in the shot -----------------------------------------------------------------------------------------------------


def _each(value: Keyed, change) -> Keyed:
    """A keyed value with `change` done to its constant and to each of its keys."""
    one = lambda v: tuple(float(x) for x in change(v))
    return Keyed(one(value.value), tuple(Key(k.frame, one(k.value), k.easing, k.handles) for k in value.keys))


def _moved(shot: Shot, of: Callable[[Object], Similarity], whole: Similarity, keep_level: bool) -> Shot:
    """The shot with each object carried by `of(object)` and the light by `whole`."""
    by_id = {o.id for o in shot.objects}
    objects = []
    for item in shot.objects:
        root = item.parent not in by_id
        how = of(item) if root else None
        objects.append(_moved_object(item, how, float(whole.scale), keep_level, shot))
    lines = tuple(
        ShadowLine(foot=vector(whole.points(np.array(s.foot))), tip=vector(whole.points(np.array(s.tip))), height=s.height * float(whole.scale))
        for s in shot.shadow.lines
    )
    # a sun of which nobody has said anything, while it lights nothing, belongs to no place that it could be carried with
    lamps = tuple(lamp if isinstance(lamp, Sun) and lamp.usual and not objects else _carried_lamp(lamp, whole) for lamp in shot.lamps)
    focus = msgspec.structs.replace(shot.focus, distance=_each(shot.focus.distance, lambda v: [v[0] * float(whole.scale)]))
    far = {name: _turned_far(getattr(shot, name), whole) for name in ("surroundings", "backdrop")}
    shadow = msgspec.structs.replace(shot.shadow, lines=lines)
    return msgspec.structs.replace(shot, objects=tuple(objects), lamps=lamps, shadow=shadow, focus=focus, **far)


def _turned_far(far: Any, whole: Similarity) -> Any:
    """What is infinitely far away after the world was turned: a heading to the right falls as the world's own grows."""
    heading = turn_from_matrix(whole.R)[0]
    return msgspec.structs.replace(far, heading=_each(far.heading, lambda v: [v[0] - heading])) if heading else far


def _carried_lamp(lamp: Lamp, whole: Similarity) -> Lamp:
    """A lamp after the world was turned, moved and sized."""
    if isinstance(lamp, Sun):
        return _turned_sun(lamp, whole)
    if not isinstance(lamp, Area | Spot):
        return lamp
    heading, scale = turn_from_matrix(whole.R)[0], float(whole.scale)
    fields: dict = {"position": _each(lamp.position, lambda v: whole.points(np.array(v))), "turn": _each(lamp.turn, lambda v: [v[0] + heading, v[1]])}
    if isinstance(lamp, Area):
        return msgspec.structs.replace(lamp, size=_each(lamp.size, lambda v: [x * scale for x in v]), **fields)
    # its light is told a metre away
    strength, radius = _each(lamp.strength, lambda v: [v[0] * scale**2]), _each(lamp.radius, lambda v: [v[0] * scale])
    return msgspec.structs.replace(lamp, strength=strength, radius=radius, **fields)


def _turned_sun(sun: Sun, whole: Similarity) -> Sun:
    bearing, height = sun.bearing, sun.height
    if not (bearing.keys or height.keys):
        b, h = bearing_and_height(whole.R @ direction(bearing.value[0], height.value[0]))
        return msgspec.structs.replace(sun, bearing=Keyed((b,)), height=Keyed((h,)))
    heading = turn_from_matrix(whole.R)[0]
    # the same for all keys, so that the way from key to key stays as it was
    begin = bearing.keys[0].value[0] if bearing.keys else bearing.value[0]
    shift = (begin - heading) % 360 - begin
    return msgspec.structs.replace(sun, bearing=_each(bearing, lambda v: [v[0] + shift]))


def _moved_object(item: Object, how: Similarity | None, scale: float, keep_level: bool, shot: Shot) -> Object:
    """An object after its world was turned, moved and sized; how: None for one that has a parent, which moves already."""
    lengths = (*item.LENGTHS, *(item.SURFACE_LENGTHS if isinstance(item, Solid) else ())) if scale != 1.0 else ()
    fields: dict = {name: _each(getattr(item, name), lambda v: [x * scale for x in v]) for name in lengths}
    fields["pivot"] = tuple(x * scale for x in item.pivot)
    if how is None:
        fields["position"] = _each(item.position, lambda v: [x * scale for x in v])
    else:
        lean = np.rad2deg(np.arccos(np.clip(how.R[2, 2], -1, 1)))
        turn = turn_matrix((turn_from_matrix(how.R)[0], 0.0, 0.0)) if keep_level and lean < LEVEL_DEG else how.R
        fields["position"] = _each(item.position, lambda v: how.points(np.array(v)))
        if how.scale != scale:
            fields["size"] = _each(item.size, lambda v: [v[0] * how.scale / scale])
        fields["turn"] = turned(item.turn, lambda _, v: turn @ turn_matrix(v))  # type: ignore[arg-type]
    moved = msgspec.structs.replace(item, **fields, **item.shape_sized(scale))
    if keep_level and how is not None and moved.tracks:
        moved = moved.shape_through(_own_places(moved, shot))
    return moved


def _own_places(item: Object, shot: Shot) -> dict[int, np.ndarray]:
    """Where the tracks of an object are now, in its own axes; those that have a place."""
    m = pose_of(msgspec.structs.replace(shot, objects=(item,)), item, shot.first)
    places = _places(shot)
    return {t: np.linalg.solve(m[:3, :3], places[t] - m[:3, 3]) for t in item.tracks if t in places}
