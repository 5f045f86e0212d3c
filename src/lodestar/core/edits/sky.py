"""Another sky: where the old one is told by its colours, and the turn that brings a place of the new one under the pointer."""

import cv2
import msgspec
import numpy as np

from ..basics.errors import UserError
from ..basics.geometry import F64
from ..basics.keyed import How, constant
from ..evaluate.cameras import camera_at
from ..light.skies import SUN_HEIGHTS
from ..matte.key import Keyer, keyed_cover, oklab
from ..shot.document import Shot
from .arrange import new_id
from .lights import sun_of

CLUSTERS, LEAST_SHARE = 6, 0.04  # colours that are looked for, and the share of the sky that one must have
AS_BRIGHT = 0.22  # of Oklab's lightness: what is darker than most of the sky by more is a tree or a roof
TOP = 0.35  # of what lies over the horizon, or of the picture: the upper part, where sky is most likely
MOST_PX = 20_000
SPECKS_PX = 10.0
COLUMN_PX, EDGE_PX = 8, 4  # of a picture, of which every so many columns are looked at; half an edge between sky and ground
HALF, SURE, MOSTLY = 0.5, 0.9, 0.7  # of a px; of the columns that must end at an edge
LEAST_COLUMNS = 0.02  # of all: in fewer there is hardly any sky under the horizon
LOWEST, MARGIN_DEG = 10.0, 0.3  # degrees under the horizon: so far ground may fall away; below the lowest sky that was seen, as others may show more
BIN_DEG, NEAR_DEG = 0.1, 1.5  # degrees of height, over which lightness is compared, and so near to the horizon an edge may be one of water
STEP, STEP_LEAST = 3.0, 0.01  # times the greatest change elsewhere, and Oklab's lightness: so much is an edge


def sky_key(shot: Shot, light: np.ndarray, frame: int) -> Keyer:
    """A key of the plate's own sky, by its usual colours. light: (h, w, 3) linear light of Rec.709 of a frame.

    Where the camera is solved, it leaves out what is near and what is under the horizon. The colours are the means of a few clusters (k-means) among what lies high over the horizon of the solved camera. Raises UserError where nothing
    of the picture does.
    """
    height, width = light.shape[:2]
    y, x = np.mgrid[0 : height : max(height // 180, 1), 0 : width : max(width // 320, 1)]
    if shot.solve is not None and frame in shot.solve.frames:
        up = np.arcsin(np.clip(camera_at(shot, frame).rays(np.stack([x, y], -1).astype(float))[..., 2], -1, 1))
        least = float(up.max()) * (1 - TOP)
        inside = (up > 0) & (up >= least)
    else:
        inside = y < TOP * height
    if not inside.any():
        raise UserError("Nothing in this frame lies over the horizon, so no sky was found.", "Go to a frame that shows it, or key a colour by hand.")
    seen = light[y[inside], x[inside]].astype(float)
    seen = seen[:: max(len(seen) // MOST_PX, 1)]
    cv2.setRNGSeed(1)
    lab = oklab(seen).astype(np.float32)
    criteria = (cv2.TERM_CRITERIA_EPS + cv2.TERM_CRITERIA_MAX_ITER, 30, 1e-4)
    _, which, _ = cv2.kmeans(lab, min(CLUSTERS, len(lab)), None, criteria, 2, cv2.KMEANS_PP_CENTERS)  # type: ignore[call-overload]
    number = which.ravel()
    shares = np.bincount(number, minlength=CLUSTERS) / len(number)
    brightness = np.array([lab[number == k, 0].mean() if shares[k] > 0 else -np.inf for k in range(len(shares))])
    usual = brightness[int(shares.argmax())]
    kept = [k for k in range(len(shares)) if shares[k] >= LEAST_SHARE and brightness[k] > usual - AS_BRIGHT]
    samples = tuple(tuple(round(float(v), 5) for v in seen[number == k].mean(0)) for k in kept)
    return Keyer(id=new_id(), name="Sky", samples=samples, hides=False, specks=constant(SPECKS_PX), far=shot.solve is not None)  # type: ignore[arg-type]


def lowest_sky(shot: Shot, key: Keyer, light: np.ndarray, frame: int) -> float:
    """Height in degrees at which the plate's sky ends, 0 or less: what its key takes from the horizon of the solve downward is sky as long as it
    goes on unchanged across it and ends at an edge within LOWEST degrees. Water under a sky does neither. light: as in `sky_key`.
    """
    if shot.solve is None or frame not in shot.solve.frames:
        return 0.0
    height, width = light.shape[:2]
    cover = keyed_cover(key, np.ascontiguousarray(light), frame)[:, ::COLUMN_PX]
    y, x = np.mgrid[0:height, 0:width:COLUMN_PX]
    up = np.rad2deg(np.arcsin(np.clip(camera_at(shot, frame).rays(np.stack([x, y], -1).astype(float))[..., 2], -1, 1)))
    # from the horizon down in each column, to the first px that is no sky
    starts = height - np.argmax((up > 0)[::-1], axis=0)
    run = np.cumsum((cover < HALF) & (y >= starts), axis=0) == 0
    ends = np.where(run.all(0), height, np.argmin(run, axis=0))
    columns = np.flatnonzero((up[0] > 0) & (ends - starts > EDGE_PX) & (starts > EDGE_PX))
    if len(columns) < LEAST_COLUMNS * len(cover[0]):
        return 0.0
    open_, sharp, depths = 0, 0, []
    for c in columns:
        end = ends[c]
        depth = -up[min(end, height - 1), c]
        open_ += depth > LOWEST or end > height - 1 - EDGE_PX
        sharp += end < height - EDGE_PX and cover[end - EDGE_PX, c] > SURE and cover[end + EDGE_PX, c] < 1 - SURE
        depths.append(depth)
    if open_ or sharp < MOSTLY * len(columns) or _edge_at_horizon(oklab(light[:, ::COLUMN_PX])[..., 0], up, run & (cover > SURE) & (y < ends - EDGE_PX), columns):
        return 0.0
    return -round(float(max(depths)) + MARGIN_DEG, 1)


def _edge_at_horizon(lightness: np.ndarray, up: np.ndarray, run: np.ndarray, columns: np.ndarray) -> bool:
    """Whether the lightness of what runs on past the horizon changes there as it does nowhere over it, as from sky to water."""
    step = (np.floor(up[:, columns] / BIN_DEG)).astype(int)
    kept = run[:, columns] & (up[:, columns] < 3 * NEAR_DEG)
    if not kept.any():
        return False
    least = step[kept].min()
    count = np.bincount(step[kept] - least)
    mean = np.bincount(step[kept] - least, lightness[:, columns][kept]) / np.maximum(count, 1)
    change = np.abs(mean[2:] - mean[:-2])
    change[np.minimum(count[2:], count[:-2]) < len(columns) / 2] = 0
    height = (np.arange(len(change)) + 1 + least) * BIN_DEG
    near = np.abs(height) < NEAR_DEG
    return bool(near.any() and (~near).any() and change[near].max() > STEP * change[~near & (height > 0)].max(initial=0) + STEP_LEAST)


def with_new_sky(shot: Shot, key: Keyer, lowest: float = 0.0) -> Shot:
    """The shot with its sky replaced where this key tells, down to `lowest` degrees; one that told it before gets its colours."""
    shot = msgspec.structs.replace(shot, backdrop=msgspec.structs.replace(shot.backdrop, horizon=constant(lowest)))
    held = next((m for m in shot.mattes if m.id in shot.backdrop.mattes and isinstance(m, Keyer) and m.by == "colour"), None)
    if held is not None:
        mattes = tuple(msgspec.structs.replace(m, samples=key.samples, far=key.far) if m is held else m for m in shot.mattes)
        return msgspec.structs.replace(shot, mattes=mattes, backdrop=msgspec.structs.replace(shot.backdrop, on=True))
    backdrop = msgspec.structs.replace(shot.backdrop, on=True, mattes=(key.id,))
    return msgspec.structs.replace(shot, mattes=(*shot.mattes, key), backdrop=backdrop)


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
