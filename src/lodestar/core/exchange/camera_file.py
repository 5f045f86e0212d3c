"""The camera as an open JSON file, `lodestar-camera` version 1 or 2; its fields are told in docs/camera-file.md."""

import json
from collections.abc import Iterable
from pathlib import Path
from typing import Any

import numpy as np

from ..basics.errors import ShotFileError
from ..basics.paths import refuse_sources, replacing, text_of
from ..solve.result import Solve

FORMAT = "lodestar-camera"
MOST_BYTES = 500_000_000
VERSION = 2  # with a zoom, which a reader of version 1 would leave out


def camera_tree(solve: Solve, fps: float) -> dict[str, Any]:
    """The file's content: world to camera, x right, y down, z forward, pixel (0, 0) the centre of the top-left pixel."""
    lens = solve.lens
    return {
        "format": FORMAT,
        "version": VERSION if len(solve.zoom) else 1,
        "width": solve.width,
        "height": solve.height,
        "fps": fps,
        "motion": solve.motion,
        "lens": {"model": lens.model, "fx": lens.fx, "fy": lens.fy, "cx": lens.cx, "cy": lens.cy, "k1": lens.k1, "k2": lens.k2},
        "frames": [
            {"index": int(i), "R": R.tolist(), "t": t.tolist(), "error_px": round(float(e), 4)} | ({"zoom": float(z)} if len(solve.zoom) else {})
            for i, R, t, e, z in zip(solve.frames, solve.R, solve.t, solve.frame_error, solve.zooms)
        ],
        "points": [
            {"id": int(i), "xyz": xyz.tolist(), "error_px": round(float(e), 4)} for i, xyz, e in zip(solve.point_ids, solve.xyz, solve.point_error)
        ],
        "error_px": {"mean": solve.mean_px, "median": solve.median_px, "p95": solve.p95_px, "rms": solve.rms_px},
        "tracks": solve.tracks,
        "seconds": solve.seconds,
        "readout": round(solve.readout, 4),
        "slip_px": [round(v, 4) for v in solve.slips],
    }


def write_camera(solve: Solve, fps: float, path: str | Path, sources: Iterable[str | Path] = ()) -> None:
    """Write the file. Raises OutputError with the reason when the place cannot be written, or is one of the sources."""
    path = Path(path)
    refuse_sources([path], map(Path, sources))
    with replacing(path) as part:
        part.write_text(json.dumps(camera_tree(solve, fps)))


def read_camera(path: str | Path) -> dict[str, Any]:
    """The content of a camera file, checked. Raises ShotFileError when it is not one, or of a newer version."""
    path = Path(path)
    try:
        tree = json.loads(text_of(path, MOST_BYTES))
        right = tree["format"] == FORMAT
    except (ValueError, KeyError, TypeError, RecursionError) as error:
        raise ShotFileError(f"{path.name} is not a camera file.", "Export one with: lodestar export SHOT.lode -o solve.json") from error
    if not right or not isinstance(tree.get("version"), int):
        raise ShotFileError(f"{path.name} is not a camera file.", "Export one with: lodestar export SHOT.lode -o solve.json")
    if tree["version"] > VERSION:
        raise ShotFileError(f"{path.name} was written by a newer Bright Lodestar (version {tree['version']}).", "Update the program to read it.")
    try:
        for name in ("width", "height", "fps", "motion", "error_px", "tracks"):
            _ = tree[name]
        for frame in tree["frames"]:
            if np.shape(frame["R"]) != (3, 3) or np.shape(frame["t"]) != (3,) or not np.isfinite([*np.ravel(frame["R"]), *frame["t"]]).all():
                raise KeyError("R")
        if not np.isfinite([float(tree["lens"][name]) for name in ("fx", "fy", "cx", "cy", "k1", "k2")]).all():
            raise KeyError("lens")
        _ = len(tree["points"])
    except (KeyError, TypeError, ValueError, AttributeError, OverflowError) as error:
        raise ShotFileError(f"{path.name} misses something that a camera file has ({str(error)[:60]}).", "Export it again.") from error
    return tree
