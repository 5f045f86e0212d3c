"""Where the still scene of a frame lies in other frames, through the solved camera and the depths of its points."""

import cv2
import numpy as np

from ..matte.background import NODE_PX
from ..shot.document import Shot
from .cameras import camera_at, scene_frame

NEAR = 45  # frames: how far from a frame a point may be seen that says how deep its picture is
# across the edge of a subject, of 640 on the width of a picture: points there may be on it. They are if they are no deeper than so many times what is known
# to be on it, and if that is so many points
EDGE_PX, BEHIND, FEW = 5, 1.4, 3
CELL = 12.0  # px: of points in one cell the middle one counts


class StillScene:
    """Where the still scene lies that is seen at the nodes of a frame, by a mesh of depths from the points that are seen near it; of a camera that
    stands on one spot, far away."""

    def __init__(self, shot: Shot) -> None:
        assert shot.plate is not None
        self.shot, self.plate, self.solve = shot, shot.plate, shot.solve
        self._number = {int(f): k for k, f in enumerate(self.solve.frames)} if self.solve is not None else {}
        ys, xs = np.mgrid[0 : self.plate.height + NODE_PX : NODE_PX, 0 : self.plate.width + NODE_PX : NODE_PX]
        self._shape, self._nodes = ys.shape, np.stack([xs, ys], -1).reshape(-1, 2).astype(float)
        self._middle = _middle_frames(shot) if self.solve is not None else np.zeros(0)
        self._meshes: dict[int, np.ndarray] = {}
        # of each point, the number of frames in which it was looked for on a subject, was on it, was on it or its edge, and was as near and seen there;
        # and by frame which points count for each of these
        self._counts, self._told = np.zeros((4, len(self._middle)), int), dict[int, list[np.ndarray]]()

    def _mesh(self, frame: int) -> np.ndarray:
        """(n, 3) points of the scene that are seen at the nodes, in the axes of the solve."""
        if frame not in self._meshes:
            solve = self.solve
            assert solve is not None
            while len(self._meshes) > 4:
                self._meshes.pop(next(iter(self._meshes)))
            camera = solve.camera(self._number[frame])
            ways = camera.rays(self._nodes)
            if solve.motion != "free":
                self._meshes[frame] = camera.centre + 1e4 * ways
            else:
                near = solve.xyz[(np.abs(self._middle - frame) < NEAR) & ~self._left_out()]
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

    def leave_out(self, frame: int, subject: np.ndarray) -> bool:
        """Points on a subject, (h, w) bool of a frame, no longer say how deep the scene is behind it: one that stands still, as a branch before the lens,
        has some. Such are those that were tracked on it more often than beside it, and others that are no deeper and are seen within it or at its edge.
        Of a frame that is asked again the last answer counts. Whether there are other ones now than before."""
        tracks, solve = self.shot.tracks, self.solve
        if solve is None or tracks is None or frame not in self._number:
            return False
        high, wide = subject.shape
        across = 2 * round(EDGE_PX * wide / 1280) + 1
        edge = cv2.dilate(subject.astype(np.uint8), np.ones((across, across), np.uint8))

        def within(xy: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
            x, y = np.clip((xy + 0.5) * [wide / self.plate.width, high / self.plate.height], 0, [wide - 1, high - 1]).astype(int).T
            return subject[y, x], edge[y, x] > 0

        before = self._left_out()
        for counts, points in zip(self._counts, self._told.pop(frame, [])):
            counts[points] -= 1  # it was asked before, and another subject was found
        point = np.full(tracks.count, -1)
        tracked = np.flatnonzero(solve.point_ids < tracks.count)
        point[solve.point_ids[tracked]] = tracked
        rows = np.flatnonzero(tracks.frame == frame)
        rows = rows[point[tracks.track[rows]] >= 0]
        of, (on, near) = point[tracks.track[rows]], within(tracks.xy[rows])
        told = [of, of[on], of[near]]
        for counts, points in zip(self._counts, told):
            counts[points] += 1
        known = self._known()
        if known.sum() >= FEW:
            xy, depth = solve.camera(self._number[frame]).project(solve.xyz)
            deepest = BEHIND * np.percentile(depth[known], 80)
            there = np.flatnonzero((depth > 0) & (depth < deepest) & (np.abs(self._middle - frame) < NEAR))
            told.append(there[within(xy[there])[1]])
            self._counts[3][told[3]] += 1
        self._told[frame] = told
        changed = bool((before != self._left_out()).any())
        if changed:
            self._meshes.clear()
        return changed

    def _known(self) -> np.ndarray:
        """(m,) bool: the points that were tracked on a subject."""
        looked_for, on, _, _ = self._counts
        return 2 * on > looked_for

    def _left_out(self) -> np.ndarray:
        looked_for, _, near, as_near = self._counts
        return self._known() | (as_near > 0) & (2 * near >= looked_for)

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
    from scipy.interpolate import LinearNDInterpolator, NearestNDInterpolator  # not at the start, which is to be quick

    if not len(xyz):
        return np.ones(len(nodes))
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
