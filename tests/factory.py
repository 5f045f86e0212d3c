"""Shots for tests, made in a moment: a seeded flight whose cameras and points are known, so that nothing has to be solved for them."""

from pathlib import Path

import msgspec
import numpy as np

from lodestar.core.basics.keyed import constant
from lodestar.core.media.plates import PlateInfo, probe
from lodestar.core.scene.ground import Ground
from lodestar.core.shot.document import Shot, rebased, with_plate
from lodestar.core.shot.objects import Title
from lodestar.core.solve.result import Solve
from lodestar.core.solve.slip import CovarianceSample
from lodestar.core.track.tracks import Tracks, frozen, make_tracks
from tests.helpers import Seeded, write_clip


def seeded_tracks(s: Seeded) -> Tracks:
    return make_tracks(s.frame, s.track, s.xy)


def known_solve(s: Seeded, tracks: Tracks) -> Solve:
    """The true cameras and points of a seeded flight, as a solve of its tracks."""
    seen = np.unique(s.track)  # make_tracks numbers the tracks that were seen from 0 without gaps
    frames = np.arange(len(s.cameras), dtype=np.int32)
    return Solve(
        motion="free",
        lens=s.lens,
        width=s.width,
        height=s.height,
        frames=frozen(frames),
        R=frozen(np.array([c.R for c in s.cameras])),
        t=frozen(np.array([c.t for c in s.cameras])),
        frame_error=frozen(np.full(len(frames), s.sigma)),
        point_ids=frozen(np.arange(tracks.count, dtype=np.int32)),
        xyz=frozen(s.points[seen]),
        point_error=frozen(np.full(tracks.count, s.sigma)),
        mean_px=s.sigma,
        median_px=s.sigma,
        p95_px=2 * s.sigma,
        rms_px=s.sigma,
        inliers=1.0,
        parallax_deg=20.0,
        lens_deviation=(1.0, 1e-3, 1e-3),
        tracks=tracks.count,
        seconds={},
        noise_px=s.sigma,
        covariance_sample=CovarianceSample(frozen(np.zeros((4, len(frames), 6))), frozen(np.zeros((4, 5)))),
        colours=frozen(np.full((tracks.count, 3), 128, np.uint8)),
    )


def make_shot(seed: int = 0, frames: int = 40, clip: Path | None = None, titles: int = 1, **flight) -> Shot:
    """A solved shot with the ground at z = 0 and titles that stand on it. clip: where a movie of plain grey is written for it, if a
    picture is to be made; flight: of `Seeded`."""
    s = Seeded(seed, frames, **flight)
    if clip is None:
        plate = PlateInfo("/nowhere/none.mp4", s.width, s.height, frames, (25, 1))
    else:
        plate = probe(write_clip(clip, [np.full((s.height, s.width, 3), 120, np.uint8)] * frames))
    tracks = seeded_tracks(s)
    solve = known_solve(s, tracks)
    ids = solve.point_ids[np.abs(solve.xyz[:, 2]) < 1e-9]
    objects = tuple(
        Title(id=f"t{k}", text=f"GATE {k + 1}", position=constant(-1.0 + 2 * k, 3.0 + k, 0.0), tracks=tuple(int(i) for i in ids[3 * k : 3 * k + 3]))
        for k in range(titles)
    )
    shot = rebased(with_plate(Shot(), plate), tracks=tracks, solve=solve, ground=Ground(on_ground=tuple(int(i) for i in ids[:30])))
    return msgspec.structs.replace(shot, objects=objects)
