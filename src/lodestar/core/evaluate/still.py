"""Where the still scene of a frame lies in other frames, through the solved camera and the depths of its points."""

import numpy as np
from scipy.interpolate import LinearNDInterpolator, NearestNDInterpolator

from ..matte.background import NODE_PX
from ..shot.document import Shot
from .cameras import camera_at, scene_frame

NEAR = 45  # frames: how far from a frame a point may be seen that says how deep its picture is
CELL = 12.0  # px: of points in one cell the middle one counts


class StillScene:
    """Where the still scene lies that is seen at the nodes of a frame, by a mesh of depths from the points that are seen near it; of a camera that
    only turns, far away."""

    def __init__(self, shot: Shot) -> None:
        assert shot.plate is not None
        self.shot, self.plate, self.solve = shot, shot.plate, shot.solve
        self._number = {int(f): k for k, f in enumerate(self.solve.frames)} if self.solve is not None else {}
        ys, xs = np.mgrid[0 : self.plate.height + NODE_PX : NODE_PX, 0 : self.plate.width + NODE_PX : NODE_PX]
        self._shape, self._nodes = ys.shape, np.stack([xs, ys], -1).reshape(-1, 2).astype(float)
        self._middle = _middle_frames(shot) if self.solve is not None else np.zeros(0)
        self._meshes: dict[int, np.ndarray] = {}

    def _mesh(self, frame: int) -> np.ndarray:
        """(n, 3) points of the scene that are seen at the nodes, in the axes of the solve."""
        if frame not in self._meshes:
            solve = self.solve
            assert solve is not None
            while len(self._meshes) > 4:
                self._meshes.pop(next(iter(self._meshes)))
            camera = solve.camera(self._number[frame])
            ways = camera.rays(self._nodes)
            if solve.motion == "turning":
                self._meshes[frame] = camera.centre + 1e4 * ways
            else:
                near = solve.xyz[np.abs(self._middle - frame) < NEAR]
                depth = 1 / _inverse_depth(camera, near, self._nodes, self.plate.width, self.plate.height)
                self._meshes[frame] = camera.centre + ways * (depth / (ways @ camera.R[2]))[:, None]
        return self._meshes[frame]

    def warp(self, frame: int, source: int) -> np.ndarray | None:
        """As `matte.background.Warp`; unknown without a solve."""
        if frame not in self._number or source not in self._number:
            return None
        assert self.solve is not None
        xy, depth = self.solve.camera(self._number[source]).project(self._mesh(frame))
        xy[depth <= 0] = -1e4
        return xy.reshape(*self._shape, 2).astype(np.float32)

    def heights(self, frame: int) -> np.ndarray | None:
        """(rows, columns) float32: how high over the level ground the scene lies at the nodes, in heights of the camera over it; None where nobody
        knows."""
        if self.solve is None or self.solve.motion != "free" or frame not in self._number:
            return None
        eye = float(camera_at(self.shot, frame).centre[2])
        if eye <= 0:
            return None
        return (scene_frame(self.shot).points(self._mesh(frame))[:, 2] / eye).reshape(self._shape).astype(np.float32)


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
