"""Changes to where objects stand, each a function from a shot to a shot. Frames are the clip's; angles degrees."""

import uuid
from collections.abc import Callable, Sequence

import msgspec
import numpy as np

from ..basics.errors import UserError
from ..basics.geometry import F64, near_turn, turn_from_matrix, turn_matrix
from ..basics.keyed import How, Key, Keyed, Value, constant
from ..evaluate.cameras import camera_at, scene_frame
from ..evaluate.ground import uneven_of
from ..evaluate.objects import box_of, mesh_of, model_of, pose_of
from ..scene.poses import moved, pose_matrix, size_of
from ..scene.surfaces import heading_towards, sturdy_plane
from ..shape.solids import ground_mesh
from ..shot.document import Shot
from ..shot.objects import Card, GroundMesh, Object, Tube, ancestors, owned
from .turns import turned

PIVOTS = (
    "base line",
    "middle",
    "front left foot",
    "front right foot",
    "back left foot",
    "back right foot",
    "front left top",
    "front right top",
    "back left top",
    "back right top",
)
LEAST_GAP = 1e-6


def new_id() -> str:
    return uuid.uuid4().hex[:8]


def find(shot: Shot, id_: str) -> Object:
    """The object of that name. Raises UserError when it is gone."""
    found = next((o for o in shot.objects if o.id == id_), None)
    if found is None:
        raise UserError("That object is not there any more.", "Choose one that is.")
    return found


def replaced(shot: Shot, *items: Object) -> Shot:
    """The shot with other values of these objects, by their ids."""
    by_id = {o.id: o for o in items}
    return msgspec.structs.replace(shot, objects=tuple(by_id.get(o.id, o) for o in shot.objects))


def added(shot: Shot, *items: Object) -> Shot:
    return msgspec.structs.replace(shot, objects=(*shot.objects, *items))


def removed(shot: Shot, ids: Sequence[str]) -> Shot:
    """Without these objects; what hung on them stays where it is, on their own parents."""
    for id_ in ids:
        for child in [o for o in shot.objects if o.parent == id_]:
            shot = reparented(shot, child.id, find(shot, id_).parent)
        shot = msgspec.structs.replace(shot, objects=tuple(o for o in shot.objects if o.id != id_))
    return shot


def parent_pose(shot: Shot, item: Object, frame: float) -> np.ndarray:
    """(4, 4) from the axes of the object's parent to the scene."""
    above = ancestors(shot.objects, item)
    return pose_of(shot, above[0], frame) if above else np.eye(4)


def with_pose(shot: Shot, item: Object, frame: float, how: How, R: F64 | None = None, at: F64 | None = None) -> Object:
    """The object turned to R (3, 3) and with its pivot at (3,), both in the scene; what is None stays."""
    m = parent_pose(shot, item, frame)
    fields = {}
    if R is not None:
        turn = m[:3, :3].T / size_of(m) @ R
        fields["turn"] = item.turn.changed(frame, near_turn(turn_from_matrix(turn), item.turn.at(frame)), how)
    if at is not None:
        place = np.linalg.solve(m[:3, :3], np.asarray(at) - m[:3, 3])
        fields["position"] = item.position.changed(frame, tuple(float(v) for v in place), how)
    return msgspec.structs.replace(item, **fields)


def turn_of(shot: Shot, item: Object, frame: float) -> tuple[float, float, float]:
    """Heading, pitch and roll in the scene."""
    m = pose_of(shot, item, frame)
    return turn_from_matrix(m[:3, :3] / size_of(m))


def place_of(shot: Shot, item: Object, frame: float) -> np.ndarray:
    """(3,) where the object's pivot is in the scene."""
    return moved(parent_pose(shot, item, frame), np.array(item.position.at(frame)))


def stood(shot: Shot, id_: str, frame: float, how: How, pitch: float = 0.0) -> Shot:
    """Upright on its base line (pitch 0), or flat on its back (-90), with the heading that it has. Its lowest point stays as high as it
    was: turned about its base line alone, half of its depth would sink into what it stands on."""
    item = find(shot, id_)
    lowest = corners_of(shot, item, frame)[:, 2].min()
    m = pose_of(shot, item, frame)[:3, 0]
    heading = float(np.rad2deg(np.arctan2(m[1], m[0])))  # by its base line, which pitching leaves alone
    turned = replaced(shot, with_pose(shot, item, frame, how, R=turn_matrix((heading, pitch, 0.0))))
    new = find(turned, id_)
    rise = lowest - corners_of(turned, new, frame)[:, 2].min()
    if abs(rise) < LEAST_GAP:
        return turned
    return replaced(turned, with_pose(turned, new, frame, how, at=place_of(turned, new, frame) + [0, 0, rise]))


def facing_camera(shot: Shot, id_: str, frame: float, how: How) -> Shot:
    """Upright, and read straight on from where the camera is at the frame."""
    item = find(shot, id_)
    to = place_of(shot, item, frame) - camera_at(shot, frame).centre
    if np.hypot(*to[:2]) < LEAST_GAP:
        raise UserError("The camera stands right over it, so there is no side to face.", "Go to another frame, or turn it by hand.")
    return replaced(shot, with_pose(shot, item, frame, how, R=turn_matrix((heading_towards(to), 0.0, 0.0))))


def along_wall(shot: Shot, id_: str, frame: float, how: How) -> Shot:
    """Upright, and flat against the wall that its own tracks, or else the points near it, make."""
    item = find(shot, id_)
    if shot.solve is None or shot.solve.motion != "free":
        raise UserError("Where walls are is known only from points in space.", "Solve a camera that moves first, or turn it by hand.")
    points, at = scene_frame(shot).points(shot.solve.xyz), place_of(shot, item, frame)
    rows = np.flatnonzero(np.isin(shot.solve.point_ids, item.tracks))
    if len(rows) < 4:
        away = np.linalg.norm(points - at, axis=1)
        rows = np.argsort(away)[:30]
    normal = sturdy_plane(points[rows])[1] * [1, 1, 0]
    if np.linalg.norm(normal) < 0.5:
        raise UserError("The points near it lie level, so there is no wall to follow.", "Move it to a wall first, or turn it by hand.")
    if normal @ (camera_at(shot, frame).centre - at) < 0:
        normal = -normal
    return replaced(shot, with_pose(shot, item, frame, how, R=turn_matrix((heading_towards(-normal), 0.0, 0.0))))


def ground_under(shot: Shot, at: F64, frame: float) -> float:
    """Height of the ground under (3,): of uneven ground where there is some, else of the level one."""
    for item in shot.objects:
        if item.UNEVEN:
            mesh, m = mesh_of(item, frame), model_of(shot, item, frame)
            p = moved(m, mesh.vertices.astype(float))
            a, b, c = (p[mesh.triangles[:, k]] for k in range(3))
            area = (b - a)[:, 0] * (c - a)[:, 1] - (b - a)[:, 1] * (c - a)[:, 0]
            safe = np.where(np.abs(area) < 1e-12, 1e-12, area)
            u = ((at[0] - a[:, 0]) * (c - a)[:, 1] - (at[1] - a[:, 1]) * (c - a)[:, 0]) / safe
            v = ((b - a)[:, 0] * (at[1] - a[:, 1]) - (b - a)[:, 1] * (at[0] - a[:, 0])) / safe
            hit = (u >= 0) & (v >= 0) & (u + v <= 1)
            if hit.any():
                return float((a[hit, 2] + u[hit] * (b - a)[hit, 2] + v[hit] * (c - a)[hit, 2]).max())
    uneven = uneven_of(shot)
    return 0.0 if uneven is None else float(uneven.heights(at[None, :2])[0])


def corners_of(shot: Shot, item: Object, frame: float) -> np.ndarray:
    """(8, 3) corners of the object's box in the scene."""
    low, high = box_of(item, frame)
    ends = (low, high)
    own = np.array([[ends[i][0], ends[j][1], ends[k][2]] for i in (0, 1) for j in (0, 1) for k in (0, 1)])
    return moved(pose_of(shot, item, frame), own)


def dropped(shot: Shot, id_: str, frame: float, how: How) -> Shot:
    """Its lowest point onto the ground below it."""
    item = find(shot, id_)
    at, lowest = place_of(shot, item, frame), corners_of(shot, item, frame)[:, 2].min()
    return replaced(shot, with_pose(shot, item, frame, how, at=at + [0, 0, ground_under(shot, at, frame) - lowest]))


def pivots_of(item: Object, frame: float) -> dict[str, tuple[float, float, float]]:
    """Where each of PIVOTS lies in the object's own axes."""
    low, high = (tuple(float(v) for v in corner) for corner in box_of(item, frame))
    found = {name: ((low, high)["right" in name][0], (low, high)["back" in name][1], (low, high)["top" in name][2]) for name in PIVOTS}
    middle = (low[0] + high[0]) / 2, (low[1] + high[1]) / 2, (low[2] + high[2]) / 2
    return found | {"base line": (0.0, 0.0, 0.0), "middle": middle}


def repivoted(shot: Shot, id_: str, pivot: tuple[float, float, float]) -> Shot:
    """Another pivot (in own axes), without the object moving; at its keys exactly, between keys of turn and size nearly."""
    item = find(shot, id_)
    shift = np.array(pivot) - item.pivot

    def place(frame: float) -> tuple[float, ...]:
        m = pose_matrix((0, 0, 0), item.turn.at(frame), item.size.at(frame)[0], (0, 0, 0))
        return tuple(float(v) for v in np.array(item.position.at(frame)) + m[:3, :3] @ shift)

    frames = sorted({k.frame for value in (item.position, item.turn, item.size) for k in value.keys})
    position = _over_keys(item.position, frames, place)
    return replaced(shot, msgspec.structs.replace(item, pivot=tuple(float(v) for v in pivot), position=position))


def _over_keys(value: Keyed, frames: list[float], at: Callable[[float], tuple[float, ...]]) -> Keyed:
    """A value with at(frame) at each of these frames, keeping the easing that leads on from each; a constant without any."""
    if not frames:
        return Keyed(at(0.0))
    before = {k.frame: k for k in value.keys}
    keys = []
    for frame in frames:
        like = before.get(frame) or next((k for k in reversed(value.keys) if k.frame < frame), Key(frame, (), "linear"))
        keys.append(Key(frame, at(frame), like.easing, like.handles))
    return Keyed(keys[0].value, tuple(keys))


def reparented(shot: Shot, id_: str, parent: str) -> Shot:
    """With another object as its parent ('' for the scene), kept where it is. Raises UserError for a ring."""
    item = find(shot, id_)
    if parent:
        above = find(shot, parent)
        if parent == id_:
            raise UserError(f"{item.name} cannot be its own parent.", "Choose another object.")
        if any(a.id == id_ for a in ancestors(shot.objects, above)):
            raise UserError(
                f"{item.name} is above {above.name} already, so {above.name} cannot be its parent.", "Give that another parent first, or none."
            )
    fresh = msgspec.structs.replace(item, parent=parent)

    def local(frame: float) -> np.ndarray:
        return np.linalg.inv(parent_pose(shot, fresh, frame)) @ parent_pose(shot, item, frame)

    def position(frame: float) -> tuple[float, ...]:
        return tuple(float(v) for v in moved(local(frame), np.array(item.position.at(frame))))

    def rotation(frame: float, turn: Value) -> F64:
        m = local(frame)
        return m[:3, :3] / size_of(m) @ turn_matrix(turn)  # type: ignore[arg-type]

    def size(frame: float) -> tuple[float, ...]:
        return (item.size.at(frame)[0] * size_of(local(frame)),)

    fields = {"turn": turned(item.turn, rotation)}
    for name, at in (("position", position), ("size", size)):
        fields[name] = _over_keys(getattr(item, name), sorted(k.frame for k in getattr(item, name).keys), at)
    return replaced(shot, msgspec.structs.replace(fresh, **fields))


def copies(items: Sequence[Object]) -> tuple[Object, ...]:
    """Copies with ids of their own, hung on one another as the originals were; a parent that is not among them stays."""
    names = {o.id: new_id() for o in items}
    return tuple(
        msgspec.structs.replace(
            o,
            id=names[o.id],
            parent=names.get(o.parent, o.parent),
            **{name: tuple(msgspec.structs.replace(child, id=new_id()) for child in own) for name, own in owned(o).items()},
        )
        for o in items
    )


def with_children(shot: Shot, ids: Sequence[str]) -> list[Object]:
    """These objects and all of their children, in the order of the shot."""
    return [o for o in shot.objects if o.id in ids or any(a.id in ids for a in ancestors(shot.objects, o))]


def duplicated(shot: Shot, ids: Sequence[str], frame: float) -> tuple[Shot, tuple[str, ...]]:
    """Copies beside the originals, to their right by one and a tenth of their width; with the ids of those that were asked for."""
    originals = with_children(shot, ids)
    new = {o.id: c for o, c in zip(originals, copies(originals))}
    for o in originals:
        if o.id in ids and o.parent not in new:
            low, high = box_of(o, frame)
            aside = pose_of(shot, o, frame)[:3, 0] * max(high[0] - low[0], 0.2) * 1.1
            inside = np.linalg.solve(parent_pose(shot, o, frame)[:3, :3], aside)
            position = new[o.id].position
            new[o.id] = msgspec.structs.replace(new[o.id], position=position.changed(frame, tuple(np.array(position.at(frame)) + inside), "whole"))
    return added(shot, *new.values()), tuple(new[i].id for i in ids if i in new)


def packed(shot: Shot, ids: Sequence[str]) -> str:
    """Objects as text, for the clipboard; a parent that is not among them is let go, and they stay where they are."""
    items = with_children(shot, ids)
    for item in items:
        if item.parent and item.parent not in {o.id for o in items}:
            shot = reparented(shot, item.id, "")
    return msgspec.json.encode([find(shot, o.id) for o in items]).decode()


def pasted(shot: Shot, text: str, same_shot: bool) -> tuple[Shot, tuple[str, ...]]:
    """Objects from the clipboard. From another shot they come without their tracks, which are numbers of that shot.

    Raises UserError when the text is no objects.
    """
    try:
        items = msgspec.json.decode(text, type=list[Object])
    except (msgspec.MsgspecError, ValueError, RecursionError) as error:
        raise UserError("There are no objects on the clipboard.", "Copy some in this window or another one first.") from error
    new = copies(items)
    known = {o.id for o in (*shot.objects, *new)}
    new = tuple(msgspec.structs.replace(o, parent=o.parent if o.parent in known else "", tracks=o.tracks if same_shot else ()) for o in new)
    return added(shot, *new), tuple(o.id for o in new)


def along_line(shot: Shot, ids: Sequence[str], frame: float, how: How, path: F64 | None = None) -> Shot:
    """Objects set evenly along a path (n, 3), facing square to it, or without one in a row between the first and the last."""
    items = [find(shot, i) for i in ids]
    if len(items) < 2:
        raise UserError("A row needs two objects or more.", "Choose several: Shift and click.")
    if path is None:
        ends = [place_of(shot, items[0], frame), place_of(shot, items[-1], frame)]
        line = np.array(ends)
    else:
        line = np.asarray(path, float)
    along = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(line, axis=0), axis=1))])
    if along[-1] < LEAST_GAP:
        raise UserError("The path has no length.", "Draw a longer one, or move the first and the last apart.")
    for share, item in zip(np.linspace(0, 1, len(items)), items):
        at = np.array([np.interp(share * along[-1], along, line[:, k]) for k in range(3)])
        R = None
        if path is not None:
            k = int(np.clip(np.searchsorted(along, share * along[-1], side="right") - 1, 0, len(line) - 2))
            d = line[k + 1] - line[k]
            R = turn_matrix((float(np.rad2deg(np.arctan2(d[1], d[0]))), 0.0, 0.0))
        shot = replaced(shot, with_pose(shot, item, frame, how, R=R, at=at))
    return shot


MIXED = 0.08  # of the distance, that points of one post may lie behind one another

# stand-ins from points ----------------------------------------------------------------------------------------------------------


def _chosen_points(shot: Shot, tracks: Sequence[int], least: int, for_what: str) -> tuple[np.ndarray, tuple[int, ...]]:
    if shot.solve is None or shot.solve.motion != "free":
        raise UserError(f"{for_what} needs points in space.", "Solve a camera that moves first.")
    rows = np.flatnonzero(np.isin(shot.solve.point_ids, list(tracks)))
    if len(rows) < least:
        raise UserError(
            f"{for_what} needs {least} points or more with a place in the scene; {len(rows)} are chosen.",
            "Choose marks in the picture or the scene: click, Shift, or a line drawn round them.",
        )
    return scene_frame(shot).points(shot.solve.xyz[rows]), tuple(int(i) for i in shot.solve.point_ids[rows])


def ground_through(shot: Shot, tracks: Sequence[int]) -> GroundMesh:
    """Uneven ground through chosen tracks, to receive shadows; its longest edge is six times what neighbours are apart."""
    points, ids = _chosen_points(shot, tracks, 3, "Ground mesh")
    apart = np.linalg.norm(points[:, None, :2] - points[None, :, :2], axis=2) + np.eye(len(points)) * 1e9
    edge = 6 * float(np.median(apart.min(1)))
    middle = points.mean(0)
    mesh = GroundMesh(
        id=new_id(),
        points=tuple(float(v) for v in (points - middle).ravel()),
        edge=constant(float(f"{edge:.2g}")),
        tracks=ids,
        position=constant(*middle),
        drawn=False,
        receives=True,
    )
    ground_mesh(mesh.points, mesh.edge.value[0], 0, True)  # raises for points in a line
    return mesh


def with_mesh_points(shot: Shot, mesh: GroundMesh, tracks: Sequence[int], add: bool) -> GroundMesh:
    """Uneven ground with the points of these tracks added, or dropped."""
    own = np.array(mesh.points).reshape(-1, 3)
    if not add:
        keep = [k for k, t in enumerate(mesh.tracks) if t not in set(tracks)]
        if len(keep) < 3:
            raise UserError("Ground needs three points.", "Drop fewer of them, or delete the ground mesh.")
        return msgspec.structs.replace(mesh, points=tuple(own[keep].ravel().tolist()), tracks=tuple(mesh.tracks[k] for k in keep))
    fresh = [t for t in tracks if t not in mesh.tracks]
    points, ids = _chosen_points(shot, fresh, 1, "Ground mesh")
    m = pose_of(shot, mesh, shot.first)
    inside = np.linalg.solve(m[:3, :3], (points - m[:3, 3]).T).T
    return msgspec.structs.replace(mesh, points=(*mesh.points, *inside.ravel().tolist()), tracks=(*mesh.tracks, *ids))


def _line_through(points: np.ndarray) -> tuple[np.ndarray, np.ndarray, float, float]:
    """Lowest and highest end of the line through points, its half width, and how far it leans off upright in degrees."""
    centre = points.mean(0)
    along = np.linalg.svd(points - centre, full_matrices=False)[2][0] if len(points) > 2 else points[1] - points[0]
    along = along / max(float(np.linalg.norm(along)), 1e-12)
    along = along if along[2] >= 0 else -along
    t = (points - centre) @ along
    off = points - centre - t[:, None] * along
    return (
        centre + along * t.min(),
        centre + along * t.max(),
        float(np.percentile(np.linalg.norm(off, axis=1), 80)),
        float(np.rad2deg(np.arccos(min(along[2], 1.0)))),
    )


def _down_to_ground(low: np.ndarray, axis: np.ndarray, length: float) -> tuple[np.ndarray, float]:
    """The foot and length of what leans little and ends a little over the level ground, which it is taken to stand on."""
    if axis[2] > 0.5 and 0 < low[2] < 0.5 * length:
        return low - axis * low[2] / axis[2], length + float(low[2] / axis[2])
    return low, length


def mixed_depths(shot: Shot, tracks: Sequence[int], frame: float) -> str:
    """A sentence where chosen points lie farther behind one another than beside, so that they can hardly be of one thing; else empty."""
    try:
        points, _ = _chosen_points(shot, tracks, 3, "")
    except UserError:
        return ""
    to = points - camera_at(shot, frame).centre
    away = np.linalg.norm(to, axis=1)
    ray = (to / away[:, None]).mean(0)
    beside = to - np.outer(to @ ray, ray) / max(float(ray @ ray), 1e-12)
    across = float(np.linalg.norm(np.ptp(beside, axis=0)))
    if float(np.ptp(away)) < max(across, MIXED * float(np.median(away))):
        return ""
    return f"The chosen marks lie {away.min():.3g} to {away.max():.3g} from the camera: some may be of what is behind."


def post_card(shot: Shot, tracks: Sequence[int], frame: float) -> Card:
    """A card that stands in for a post or pole: along the line through two or more tracks, down to the ground where it is near,
    facing the camera of the frame; it hides what is behind."""
    points, ids = _chosen_points(shot, tracks, 2, "A card on a post")
    low, high, half, lean = _line_through(points)
    if np.linalg.norm(high - low) < LEAST_GAP:
        raise UserError("The points lie in one place.", "Choose one at the foot and one at the top.")
    axis = (high - low) / np.linalg.norm(high - low)
    length = float(np.linalg.norm(high - low))
    low, length = _down_to_ground(low, axis, length)
    to = low - camera_at(shot, frame).centre
    away = to - axis * (to @ axis)
    away /= max(float(np.linalg.norm(away)), 1e-9)
    R = np.stack([np.cross(away, axis), away, axis], 1)
    return Card(
        id=new_id(),
        label="Post card",
        width=constant(round(max(2 * half, 0.06 * length), 4)),
        height=constant(round(length, 4)),
        position=constant(*low),
        turn=constant(*turn_from_matrix(R)),
        tracks=ids,
        drawn=False,
        hides=True,
    )


def tube_along(shot: Shot, tracks: Sequence[int]) -> Tube:
    """A tube that stands in for a post, along the line through two or more tracks; it hides what is behind and takes shadows."""
    points, ids = _chosen_points(shot, tracks, 2, "A tube")
    low, high, half, _ = _line_through(points)
    length = float(np.linalg.norm(high - low))
    if length < LEAST_GAP:
        raise UserError("The points lie in one place.", "Choose one at the foot and one at the top.")
    axis = (high - low) / length
    low, length = _down_to_ground(low, axis, length)
    x = np.cross([0, 1.0, 0] if abs(axis[1]) < 0.9 else [1.0, 0, 0], axis)
    x /= np.linalg.norm(x)
    R = np.stack([x, np.cross(axis, x), axis], 1)
    return Tube(
        id=new_id(),
        length=constant(round(length, 4)),
        thickness=constant(round(max(2 * half, 0.05 * length), 4)),
        position=constant(*low),
        turn=constant(*turn_from_matrix(R)),
        tracks=ids,
        drawn=False,
        hides=True,
        receives=True,
    )
