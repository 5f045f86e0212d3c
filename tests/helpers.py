"""What several tests share: small clips, seeded scenes, the demo."""

import json
import tempfile
import unittest
import zipfile
from fractions import Fraction
from pathlib import Path
from unittest import mock

import av
import msgspec
import numba
import numpy as np
from scipy.ndimage import gaussian_filter1d

from lodestar.core.evaluate.lettering import shifted
from lodestar.core.projection.camera import Camera
from lodestar.core.projection.pinhole import Lens
from lodestar.core.scene.ground import Ground
from lodestar.core.shape.extrude import Mesh, bevelled, solid
from lodestar.core.shape.fonts import Face, face_of
from lodestar.core.shape.setting import PLAIN, Setting, letters_of, pieces_of
from lodestar.core.shape.solids import joined
from lodestar.core.shot import files
from lodestar.core.shot.document import Shot, rebased

ROOT = Path(__file__).resolve().parents[1]
SHOTS = ROOT / "demo" / "shots"
DEMO = ROOT / "demo" / "open-night.lode"


def word_contours(path: Face, text: str, setting: Setting = PLAIN) -> tuple[list[np.ndarray], float]:
    """Closed polygons of a set text and the width of its widest line, in cap heights."""
    pieces = pieces_of(path, text, setting)
    return [c + (piece.x, piece.y) for piece in pieces for c in piece.joined.contours()], letters_of(path, text, setting)[1]


def word_mesh(face: str, text: str, depth: float, bevel: float) -> Mesh:
    """The solid of a text in one of the shipped faces."""
    pieces = pieces_of(face_of(face), text, PLAIN)
    return joined([(solid(piece.joined, bevelled(depth, bevel)), shifted(piece.x, 0.0, piece.y)) for piece in pieces])


def compiled(part):
    """A part of kernels as a kernel of its own, so that it can be called from here."""
    return numba.njit(lambda *values: part(*values))


def pymatting():
    """The library, whose kernels are compiled when they are called: it compiles all of them as it is imported, which takes a minute and a half."""
    njit = numba.njit
    with mock.patch.object(numba, "njit", lambda signature, **how: njit(**how)):
        import pymatting
    return pymatting


class FolderCase(unittest.TestCase):
    """A test with a folder of its own."""

    def setUp(self) -> None:
        self._folder = tempfile.TemporaryDirectory()
        self.addCleanup(self._folder.cleanup)
        self.folder = Path(self._folder.name)


def write_clip(
    path: Path, pictures: list[np.ndarray], fps: Fraction = Fraction(25), gop: int = 12, codec: str = "libx264", sound: bool = False, start: int = 0
) -> Path:
    """A movie of the pictures (h, w, 3) uint8, with B frames and, if asked, a tone that starts after half of its length."""
    with av.open(str(path), "w") as container:
        stream = container.add_stream(codec, rate=fps)
        stream.height, stream.width = pictures[0].shape[:2]
        stream.pix_fmt = "yuv420p"
        stream.options = {"g": str(gop), "bf": "3", "crf": "12"} if codec == "libx264" else {}
        audio = container.add_stream("aac", rate=48000, layout="mono") if sound else None
        for i, picture in enumerate(pictures):
            frame = av.VideoFrame.from_ndarray(picture, format="rgb24")
            frame.pts, frame.time_base = i + start, 1 / fps
            container.mux(stream.encode(frame))
        container.mux(stream.encode())
        if audio is not None:
            length = int(48000 * len(pictures) / fps)
            tone = np.sin(np.arange(length) * 2 * np.pi * 440 / 48000).astype(np.float32) * 0.5
            tone[: length // 2] = 0
            for k in range(0, length, 1024):
                block = av.AudioFrame.from_ndarray(tone[None, k : k + 1024], format="fltp", layout="mono")
                block.rate, block.pts, block.time_base = 48000, k, Fraction(1, 48000)
                container.mux(audio.encode(block))
            container.mux(audio.encode())
    return path


def numbered(count: int, width: int = 160, height: int = 96) -> list[np.ndarray]:
    """Pictures that carry their number as eight black or white blocks."""
    pictures = []
    for i in range(count):
        picture = np.full((height, width, 3), 90, np.uint8)
        for bit in range(8):
            picture[:40, bit * 20 : bit * 20 + 20] = 255 if i >> bit & 1 else 0
        pictures.append(picture)
    return pictures


def number_of(picture: np.ndarray) -> int:
    return sum(1 << bit for bit in range(8) if picture[20, bit * 20 + 10].mean() > 128)


def texture(height: int, width: int, seed: int = 0) -> np.ndarray:
    """(height, width) smooth noise in 0..1 with detail to follow."""
    import cv2

    rng = np.random.default_rng(seed)
    total = np.zeros((height, width), np.float32)
    for sigma, share in ((1.2, 1.0), (3, 1.0), (9, 1.5)):
        layer = cv2.GaussianBlur(rng.standard_normal((height, width)).astype(np.float32), (0, 0), sigma)
        total += share * layer / layer.std()
    return np.clip(0.5 + total / 8, 0, 1)


class Seeded:
    """A known camera flight over points on ground and walls, and the noisy tracks that it would leave.

    Sigma is the noise of each coordinate in px; a share of the tracks belongs to a thing that moves by itself. life: frames
    that a track lives, 0 for as long as its point is in view. fading: what is left of an error in the next frame. readout: of
    a rolling shutter, in frames. gap: (first, last) frames over which no track leads. speed: of the flight. zoom: by how many times
    the focal length grows, slow at both ends. flat: all of it lies on the ground. drift: m over the whole clip by which all that lies on
    the ground moves evenly, as water does. astray: px a frame by which each track is led away from its point, on a way of its own.
    """

    def __init__(
        self,
        seed: int = 0,
        frames: int = 60,
        tracks: int = 400,
        sigma: float = 0.2,
        moving: float = 0.04,
        turning: bool = False,
        life: int = 0,
        fading: float = 0.0,
        readout: float = 0.0,
        gap: tuple[int, int] | None = None,
        speed: float = 1.0,
        zoom: float = 1.0,
        flat: bool = False,
        drift: tuple[float, float] = (0.0, 0.0),
        astray: float = 0.0,
    ) -> None:
        rng = np.random.default_rng(seed)
        self.width, self.height, self.sigma = 1280, 720, sigma
        self.lens = Lens(1000.0, 1000.0, 639.5, 359.5, -0.06, 0.008)
        u = np.linspace(0, 1, frames) * speed
        shake = gaussian_filter1d(rng.standard_normal((frames + 40, 6)), 4, axis=0)[20:-20]
        centre = np.stack([-3 + 6 * u, -9 + 1.5 * u, 2.2 + 0.4 * np.sin(4 * u)], 1) + 0.06 * shake[:, :3]
        if turning:
            centre = np.repeat(centre[:1], frames, 0)
        target = np.stack([-0.5 + u + (8 * u - 4 if turning else 0), 6 + 0 * u, 0.8 + 0 * u], 1) + 0.25 * shake[:, 3:]
        way = np.linspace(0, 1, frames)
        self.zoom = zoom ** (way * way * (3 - 2 * way))
        self.cameras = [msgspec.structs.replace(self._look(c, t), lens=self.lens.zoomed(z)) for c, t, z in zip(centre, target, self.zoom)]
        points = np.concatenate(
            [
                np.c_[rng.uniform(-9, 9, tracks // 2), rng.uniform(-4, 14, tracks // 2), np.zeros(tracks // 2)],
                np.c_[
                    rng.uniform(-9, 9, tracks - tracks // 2),
                    rng.choice([6.0, 9.0, 14.0], tracks - tracks // 2),
                    rng.uniform(0, 4, tracks - tracks // 2),
                ],
            ]
        )
        if flat:
            points[:, 2] = 0
        self.points = points
        walker = rng.random(tracks) < moving
        rows = []
        born = rng.integers(-life, frames, tracks) if life else np.zeros(tracks, int)
        error = rng.standard_normal((tracks, 2))
        for i, camera in enumerate(self.cameras):
            moved = points + np.where(walker[:, None], [1.0 * u[i], 2.5 * u[i], 0], 0)
            moved[: tracks // 2, :2] += u[i] * np.array(drift)
            xy, depth = camera.project(moved)
            if readout:
                late = readout * (xy[:, 1] / (self.height - 1) - 0.5)
                xy = self._late(i, moved, late)
            error = fading * error + np.sqrt(1 - fading**2) * rng.standard_normal((tracks, 2))
            alive = (born <= i) & (i < born + life) if life else np.ones(tracks, bool)
            if gap is not None:
                # a cut: other tracks on either side
                alive &= (np.arange(tracks) % 2 == 0) if i < gap[0] else (np.arange(tracks) % 2 == 1) if i > gap[1] else np.zeros(tracks, bool)
            seen = alive & (depth > 0.5) & (xy > 4).all(1) & (xy < [self.width - 4, self.height - 4]).all(1)
            ids = np.flatnonzero(seen)
            rows.append((np.full(len(ids), i), ids, xy[ids] + sigma * error[ids]))
        self.frame, self.track, self.xy = (np.concatenate(x) for x in zip(*rows))
        middle = np.bincount(self.track, self.frame) / np.maximum(np.bincount(self.track), 1)
        way = np.random.default_rng([seed, 1]).standard_normal((len(middle), 2))
        self.xy += astray * (self.frame - middle[self.track])[:, None] * way[self.track]

    def _late(self, i: int, points: np.ndarray, late: np.ndarray) -> np.ndarray:
        """Where points are seen when each is read `late` frames after frame i, the poses between frames being interpolated."""
        from scipy.spatial.transform import Rotation, Slerp

        near = [max(i - 1, 0), i, min(i + 1, len(self.cameras) - 1)]
        times = np.array([i - 1.0, i, i + 1.0])
        R = Slerp(times, Rotation.from_matrix([self.cameras[k].R for k in near]))(i + late).as_matrix()
        C = np.stack([np.interp(i + late, times, [self.cameras[k].centre[c] for k in near]) for c in range(3)], 1)
        inside = np.einsum("kij,kj->ki", R, points - C)
        return self.lens.zoomed(self.zoom[i]).distort(inside[:, :2] / np.maximum(inside[:, 2:], 1e-6))

    def _look(self, centre, target) -> Camera:
        z = target - centre
        z = z / np.linalg.norm(z)
        x = np.cross(z, [0, 0, 1.0])
        x /= np.linalg.norm(x)
        R = np.stack([x, np.cross(z, x), z])
        return Camera(R, -R @ centre, self.lens)


def by_hand(shot, tree):
    """The shot as it is opened with the parts of a tree, as a person would write them, in its document."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "a.lode"
        files.write(shot, path)
        with zipfile.ZipFile(path) as file:
            members = {name: file.read(name) for name in file.namelist()}
        text = json.dumps(json.loads(members["shot.json"]) | tree).encode()
        with zipfile.ZipFile(path, "w") as file:
            for name, data in (members | {"shot.json": text}).items():
                file.writestr(name, data)
        return files.read(path)


def looked_down_on(shot: Shot) -> Shot:
    """The shot with a solve of another place: a camera that comes down on a street, as a solver sees it that takes it for one held level. The first 300
    points lie on the street, 120 on roofs."""
    assert shot.solve is not None
    rng, count = np.random.default_rng(3), len(shot.solve.frames)
    xyz = np.concatenate([rng.uniform([-4, 10, -3], [4, 10, 3], (300, 3)), rng.uniform([-4, 5, -3], [4, 9, 3], (120, 3))])
    xyz[:300, 1] += rng.normal(0, 0.03, 300)
    R = np.repeat(np.array([[1.0, 0, 0], [0, 0, -1], [0, 1, 0]])[None], count, 0)
    centres = np.linspace([0, 0, 0], [0.1, 1, 0.05], count)
    t = -np.einsum("kij,kj->ki", R, centres)
    told = {"point_ids": np.arange(420, dtype=np.int32), "point_error": np.full(420, 0.1), "uprights": np.zeros((0, 5)), "held": True}
    solve = msgspec.structs.replace(shot.solve, R=R, t=t, xyz=xyz, colours=np.zeros((0, 3), np.uint8), **told)
    return rebased(msgspec.structs.replace(shot, objects=(), mattes=()), solve=solve, ground=Ground())
