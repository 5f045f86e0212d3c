"""Where the still scene of a frame lies in other frames, through the solved camera and the depths of its points."""

import numpy as np
from scipy.interpolate import LinearNDInterpolator, NearestNDInterpolator

from ..matte.background import NODE_PX, Warp
from ..shot.document import Shot

NEAR = 45  # frames: how far from a frame a point may be seen that says how deep its picture is
CELL = 12.0  # px: of points in one cell the middle one counts


def warp_of(shot: Shot) -> Warp:
    """Where the still scene goes from frame to frame, through the solved camera: a mesh of depths from the points that are seen near a
    frame. A camera that only turns needs none. Unknown without a solve."""
    solve, plate = shot.solve, shot.plate
    assert plate is not None
    if solve is None:
        return lambda frame, source: None
    number = {int(f): k for k, f in enumerate(solve.frames)}
    ys, xs = np.mgrid[0 : plate.height + NODE_PX : NODE_PX, 0 : plate.width + NODE_PX : NODE_PX]
    nodes = np.stack([xs, ys], -1).reshape(-1, 2).astype(float)
    middle = _middle_frames(shot)
    meshes: dict[int, np.ndarray] = {}

    def mesh(frame: int) -> np.ndarray:
        """(n, 3) points of the scene that are seen at the nodes."""
        if frame not in meshes:
            while len(meshes) > 4:
                meshes.pop(next(iter(meshes)))
            camera = solve.camera(number[frame])
            ways = camera.rays(nodes)
            forward = camera.R[2]
            if solve.motion == "turning":
                meshes[frame] = camera.centre + 1e4 * ways
            else:
                depth = 1 / _inverse_depth(camera, solve.xyz[np.abs(middle - frame) < NEAR], nodes, plate.width, plate.height)
                meshes[frame] = camera.centre + ways * (depth / (ways @ forward))[:, None]
        return meshes[frame]

    def warp(frame: int, source: int) -> np.ndarray | None:
        if frame not in number or source not in number:
            return None
        xy, depth = solve.camera(number[source]).project(mesh(frame))
        xy[depth <= 0] = -1e4
        return xy.reshape(*ys.shape, 2).astype(np.float32)

    return warp


def _middle_frames(shot: Shot) -> np.ndarray:
    """(m,) the middle of the frames in which each solved point is seen; 0 for all where there are no tracks."""
    solve, tracks = shot.solve, shot.tracks
    assert solve is not None
    if tracks is None or not tracks.count:
        return np.zeros(len(solve.xyz))
    total, count = np.zeros(tracks.count), np.maximum(np.bincount(tracks.track, minlength=tracks.count), 1)
    np.add.at(total, tracks.track, tracks.frame)
    ids = np.minimum(solve.point_ids, tracks.count - 1)
    return (total / count)[ids]


def _inverse_depth(camera, xyz: np.ndarray, nodes: np.ndarray, width: int, height: int) -> np.ndarray:
    """(n,) one over the depth of the scene at places (n, 2) px, from the points of one camera; linear between them. Of many in one place
    the middle one counts: some lie far behind or before it by mistake."""
    xy, depth = camera.project(xyz)
    ok = (depth > 1e-3 * np.median(np.abs(depth))) & (xy > -60).all(1) & (xy < [width + 60, height + 60]).all(1)
    xy, inverse = xy[ok], 1 / depth[ok]
    if len(xy) < 4:
        return np.full(len(nodes), float(np.median(inverse)) if len(inverse) else 1.0)
    cell = np.floor(xy / CELL).astype(int) @ [1, 100_000]
    order = np.lexsort((inverse, cell))
    _, start, count = np.unique(cell[order], return_index=True, return_counts=True)
    middle = order[start + count // 2]
    near = NearestNDInterpolator(xy[middle], inverse[middle])(nodes)
    if len(middle) < 4:
        return near
    found = LinearNDInterpolator(xy[middle], inverse[middle])(nodes)
    return np.where(np.isnan(found), near, found)
