"""Another sky: where the old one is told by its colours, and the turn that brings a place of the new one under the pointer."""

import cv2
import msgspec
import numpy as np

from ..basics.errors import UserError
from ..basics.geometry import F64
from ..basics.keyed import How, constant
from ..evaluate.cameras import camera_at
from ..light.skies import SUN_HEIGHTS
from ..matte.key import Keyer, oklab
from ..shot.document import Shot
from .arrange import new_id
from .lights import sun_of

CLUSTERS, LEAST_SHARE = 6, 0.04  # colours that are looked for, and the share of the sky that one must have
AS_BRIGHT = 0.22  # of Oklab's lightness: what is darker than most of the sky by more is a tree or a roof
TOP = 0.35  # of what lies over the horizon, or of the picture: the upper part, where sky is most likely
MOST_PX = 20_000
SPECKS_PX = 10.0


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


def with_new_sky(shot: Shot, key: Keyer) -> Shot:
    """The shot with its sky replaced where this key tells; one that told it before gets its colours."""
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
