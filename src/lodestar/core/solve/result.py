"""What is asked of a solve, and the solved camera as one frozen value."""

import msgspec
import numpy as np

from ..projection.camera import Camera
from ..projection.pinhole import LEAST_DEPTH, Lens
from .slip import CovarianceSample, slide

MOTIONS, ZOOMS = ("free", "turning", "still"), ("auto", "none", "zooms")


class SolveSettings(msgspec.Struct, frozen=True, omit_defaults=True):
    """focal_px: 0 when unknown. motion: 'auto', 'free', 'turning' or 'still'. k1, k2: whether they are solved; distortion: what they are
    otherwise. refine: start from the solve there is. reference: frame of the clip from which the solve grows, or None.
    rolling: whether the readout time of the sensor's rows is estimated. zoom: 'auto', 'none' or 'zooms': whether the
    focal length changes from frame to frame. hold: whether what is known of the place (distances,
    directions) counts.
    """

    focal_px: float = 0.0
    motion: str = "auto"
    k1: bool = True
    k2: bool = True
    distortion: tuple[float, float] = (0.0, 0.0)
    refine: bool = False
    reference: int | None = None
    rolling: bool = False
    zoom: str = "auto"
    hold: bool = False


class Solve(msgspec.Struct, frozen=True, eq=False):
    """A solved camera, world to camera, in a frame of reference of its own: z roughly up, the camera path round the origin.

    frames (k,) int32 clip frames; R (k, 3, 3); t (k, 3); frame_error (k,) px; point_ids (m,) int32 tracks; xyz (m, 3);
    point_error (m,) px. lens_deviation: of f, k1, k2. motion: 'free', 'turning' on one spot, or 'still'; why: what decided between them.
    source: digest of what it was solved from, by which it is known to be stale.
    noise_px: of one axis of the tracks, measured without any camera (0 when unknown). covariance_sample: how the cameras may be wrong.
    readout: share of a frame's time by which the last row is read after the first; 0 unless asked for.
    looks_rolling: the readout that the residuals hint at, 0 when they do not.
    colours (m, 3) uint8: of the plate at each point, to draw it by; empty when they were not read.
    uprights (n, 5): frame, ax, ay, bx, by of lines in the plate, px as filmed, that agree on where up is; empty where none do.
    zoom (k,): by how many times the lens's focal length each frame's is; empty where the lens does not zoom.
    held: whether its level heeds how cameras are held; solves of shots from before keep the level that they had.
    slips: middle and 95 % over the solved points of what a title there would slide, px; 0 when unknown.
    """

    motion: str
    lens: Lens
    width: int
    height: int
    frames: np.ndarray
    R: np.ndarray
    t: np.ndarray
    frame_error: np.ndarray
    point_ids: np.ndarray
    xyz: np.ndarray
    point_error: np.ndarray
    mean_px: float
    median_px: float
    p95_px: float
    rms_px: float
    inliers: float
    parallax_deg: float
    lens_deviation: tuple[float, float, float]
    tracks: int
    seconds: dict[str, float]
    why: str = ""
    warning: str = ""
    source: str = ""
    noise_px: float = 0.0
    covariance_sample: CovarianceSample | None = None
    readout: float = 0.0
    looks_rolling: float = 0.0
    slips: tuple[float, float] = (0.0, 0.0)
    colours: np.ndarray = msgspec.field(default_factory=lambda: np.zeros((0, 3), np.uint8))
    uprights: np.ndarray = msgspec.field(default_factory=lambda: np.zeros((0, 5)))
    zoom: np.ndarray = msgspec.field(default_factory=lambda: np.zeros(0))
    held: bool = False

    @property
    def zooms(self) -> np.ndarray:
        """(k,) the factors, ones for a lens that does not zoom."""
        return self.zoom if len(self.zoom) else np.ones(len(self.frames))

    def camera(self, k: int) -> Camera:
        """The camera of `frames[k]`."""
        return Camera(self.R[k], self.t[k], self.lens.zoomed(float(self.zooms[k])))

    def undistorted(self, k: np.ndarray, pixels: np.ndarray) -> np.ndarray:
        """(n, 2) straight image-plane coordinates of pixels (n, 2) as filmed in `frames[k]`, k (n,)."""
        middle = np.array([self.lens.cx, self.lens.cy])
        return self.lens.undistort(middle + (pixels - middle) / self.zooms[k, None])

    def pixels(self, k: np.ndarray, inside: np.ndarray) -> np.ndarray:
        """(n, 2) pixels as filmed of points (n, 3) in the axes of the cameras of `frames[k]`."""
        middle = np.array([self.lens.cx, self.lens.cy])
        before = np.concatenate([inside[:, :2], np.maximum(inside[:, 2:], LEAST_DEPTH)], 1)  # what is behind is seen nowhere near
        return middle + (self.lens.pixels(before) - middle) * self.zooms[k, None]

    @property
    def centres(self) -> np.ndarray:
        """(k, 3) where the camera stood."""
        return -np.einsum("kji,kj->ki", self.R, self.t)


def slip(solve: Solve, points: np.ndarray) -> np.ndarray:
    """(m,) px by which a title at each point (m, 3) of the solve's own frame of reference slides against the plate.

    95 % of the image errors stay under it, over the frames of the shot that see the point. nan where none does, and for
    solves of an earlier version, which carry no sample of their errors.
    """
    if solve.covariance_sample is None:
        return np.full(len(points), np.nan)
    lens = solve.lens
    K = np.array([lens.fx, lens.k1, lens.k2])
    return slide(
        solve.R,
        solve.centres,
        K,
        solve.zooms,
        (lens.cx, lens.cy),
        (solve.width, solve.height),
        solve.covariance_sample,
        np.asarray(points, np.float64),
    )
