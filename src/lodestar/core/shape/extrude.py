"""Flat outlines to solids: a depth, edges of a profile, rounded corners, a wall instead of a full body."""

import functools
from collections.abc import Hashable
from typing import NamedTuple, Protocol

import manifold3d as m3
import numpy as np

PROFILES = ("round", "flat", "step", "hollow", "drawn")
DRAWN_STEPS = 6  # of a drawn profile between two of its points
BEVEL_STEPS = (5, 5, 9)  # by how fine it is made: the light on it is round all the same, only its own outline is not
CREASE = np.cos(np.deg2rad(30))
SIMPLIFY = 2e-4
MOST_HEIGHT = 0.45  # of the depth that an edge may take
FACE, EDGE, SIDE, BACK, PARTS = range(5)  # parts of a solid, and how many there are
NO_PART = np.zeros(0, np.uint8)
NO_PANEL = (0.0, 0.0)
NOTHING = (np.zeros((0, 3), np.float32), np.zeros((0, 3), np.int32), NO_PART)


class Mesh(NamedTuple):
    """vertices (n, 3) and normals (n, 3) float32, triangles (m, 3) int32, counter-clockwise from outside.

    closed: it has an inside, so that of its triangles only those that face the eye are ever seen. parts (m,) uint8: FACE, EDGE,
    SIDE or BACK of each triangle; empty where it has one part. steps: the same triangles at even times over an exposure, an odd number of which
    this is the middle one; empty where its corners stay.
    """

    vertices: np.ndarray
    normals: np.ndarray
    triangles: np.ndarray
    closed: bool = False
    parts: np.ndarray = NO_PART
    steps: "tuple[Mesh, ...]" = ()


class Edge(NamedTuple):
    """profile: one of PROFILES. width: how far it goes inward; height: how much of the depth it takes. curve: of a drawn one, pairs of inset and
    rise, 0 to 1, through which it goes from the side to the face."""

    profile: str = "round"
    width: float = 0.0
    height: float = 0.0
    curve: tuple[float, ...] = ()


class Form(NamedTuple):
    """How an outline becomes a solid, in its own units. rounding: radius of its corners; wall: thickness of the body along the outline, 0
    for a full one; grow: by how much it is fatter all round; panel: how far within the front edge a face lies, and by how much it is raised (or sunk,
    below 0). fine: how often all curves are made four times as true, since they are seen large; at 0 they are true to 0.0017 heights."""

    depth: float
    front: Edge = Edge()
    back: Edge = Edge()
    rounding: float = 0.0
    wall: float = 0.0
    grow: float = 0.0
    panel: tuple[float, float] = NO_PANEL
    fine: int = 0

    @property
    def simplified(self) -> float:
        """By how much a line may miss its corners, in its own units."""
        return SIMPLIFY / 4**self.fine


def bevelled(depth: float, bevel: float) -> Form:
    """A plain solid whose edges are rounded by `bevel` front and back, held under 0.45 of the depth."""
    edge = Edge("round", min(bevel, MOST_HEIGHT * depth), min(bevel, MOST_HEIGHT * depth))
    return Form(depth, edge, edge)


class Source(Hashable, Protocol):
    """What has an outline, and is the same whenever that is."""

    def contours(self, fine: int = 0) -> list[np.ndarray]:
        """Closed polygons (n, 2), by the non-zero rule. fine: as of `Form`."""
        ...


class Contours(NamedTuple):
    """An outline as it is, told from others by its numbers."""

    polygons: tuple[tuple[tuple[float, float], ...], ...]

    def contours(self, fine: int = 0) -> list[np.ndarray]:
        return [np.array(p) for p in self.polygons]


def extrude(contours: list[np.ndarray], depth: float, bevel: float) -> Mesh:
    """`solid` of polygons (n, 2), plain and rounded by `bevel`."""
    return solid(Contours(tuple(tuple((float(x), float(y)) for x, y in p) for p in contours)), bevelled(depth, bevel))


@functools.lru_cache(maxsize=1024)
def solid(source: Source, form: Form) -> Mesh:
    """A solid of `form.depth` along -y behind its front (x right, z up, front at y = -depth / 2)."""
    shell = _shell(source, form._replace(depth=0.0))
    z = shell.rise + shell.side * (form.depth / 2)
    # from outline axes (x right, y up, z towards the reader) to object axes (x right, y away, z up)
    vertices = np.stack([shell.xy[:, 0], -z, shell.xy[:, 1]], 1)
    return Mesh(np.ascontiguousarray(vertices, np.float32), shell.normals, shell.triangles, True, shell.parts)


class _Shell(NamedTuple):
    """A solid without its depth: places (n, 2) and heights (n,) against the plane that the side (n,), 1 front, -1 back, lies in."""

    xy: np.ndarray
    rise: np.ndarray
    side: np.ndarray
    normals: np.ndarray
    triangles: np.ndarray
    parts: np.ndarray


@functools.lru_cache(maxsize=1024)
def _shell(source: Source, form: Form) -> _Shell:
    """An edge is a height field over nested insets, so that it never crosses itself, also where a stroke vanishes."""
    polygons = [np.asarray(c) for c in source.contours(form.fine)]
    insets = _Insets(_shaped(m3.CrossSection(polygons, m3.FillRule.NonZero).simplify(form.simplified), form), form)
    front = _upper(insets, form.front, form.panel)
    back = front if (form.back, NO_PANEL) == (form.front, form.panel) else _upper(insets, form.back, NO_PANEL)
    sides = [_wall(ring, (form.back.height, -1.0), (-form.front.height, 1.0), SIDE) for ring in insets[0.0]]
    strips = [*front, *(_turned_over(strip) for strip in back), *sides]
    if not strips:
        return _Shell(np.zeros((0, 2)), np.zeros(0), np.zeros(0), *NOTHING)
    begins = np.cumsum([0, *(len(strip.xy) for strip in strips)])
    xy, rise, side, n = (np.concatenate([getattr(strip, name) for strip in strips]) for name in ("xy", "rise", "side", "normals"))
    triangles = np.concatenate([strip.triangles + begin for strip, begin in zip(strips, begins)])
    parts = np.repeat([strip.part for strip in strips], [len(strip.triangles) for strip in strips])
    # normals in object axes: x right, y away, z up
    normals = np.ascontiguousarray(np.stack([n[:, 0], -n[:, 2], n[:, 1]], 1), np.float32)
    return _Shell(xy, rise, side, normals, np.ascontiguousarray(triangles, np.int32), parts.astype(np.uint8))


class _Strip(NamedTuple):
    """A piece of a shell, in outline axes: x right, y up, z towards the reader."""

    xy: np.ndarray
    rise: np.ndarray
    side: np.ndarray
    normals: np.ndarray
    triangles: np.ndarray
    part: int


def _turned_over(strip: _Strip) -> _Strip:
    """The same at the back."""
    part = BACK if strip.part == FACE else strip.part
    return _Strip(strip.xy, -strip.rise, -strip.side, strip.normals * [1, 1, -1], strip.triangles[:, ::-1], part)


def _upper(insets: "_Insets", edge: Edge, panel: tuple[float, float]) -> list[_Strip]:
    """Edge and face of the front."""
    bands, strips = [*profile(edge, insets.form.fine), *_panel(edge, panel)], []
    for band in bands:
        if band.inset == band.next_inset:
            low, high = sorted(rise - edge.height for rise in (band.rise, band.next_rise))
            strips += [_wall(ring, (low, 1.0), (high, 1.0), EDGE, band.next_rise > band.rise) for ring in insets[band.inset]]
        elif insets[band.inset]:
            strips.append(_band(insets, band, edge.height))
    last = bands[-1] if bands else _Band(0, 0, 0, 0, 0, 0)
    if insets[last.next_inset]:
        strips.append(_cap(insets[last.next_inset], last.next_rise - edge.height))
    return strips


def _shaped(section: m3.CrossSection, form: Form) -> m3.CrossSection:
    """The outline with its corners rounded, or as a wall along it."""
    if form.rounding > 1e-6:
        r = form.rounding
        # what is taken off outward corners, then inward ones
        for by in (-r, 2 * r, -r):
            section = section.offset(by, m3.JoinType.Round, 2.0, 32 << form.fine)
        section = section.simplify(form.simplified)
    if abs(form.grow) > 1e-6:
        section = section.offset(form.grow, m3.JoinType.Round, 2.0, 64 << form.fine).simplify(form.simplified)
    if form.wall > 1e-6:
        section = section - section.offset(-form.wall, m3.JoinType.Miter, 2.0, 32)
    return section


class _Insets(dict):
    """The outline and its insets, by how far they go, as polygons (n, 2) whose inside lies left."""

    def __init__(self, section: m3.CrossSection, form: Form) -> None:
        super().__init__()
        self.section, self.form = section, form
        self._smooth: dict[float, list[np.ndarray]] = {}

    def smooth(self, inset: float) -> list[np.ndarray]:
        """Outward normals (n, 2) at the corners of each polygon, smooth from edge to edge."""
        if inset not in self._smooth:
            self._smooth[inset] = [_smooth(p) for p in self[inset]]
        return self._smooth[inset]

    def __missing__(self, inset: float) -> list[np.ndarray]:
        section = self.section if inset == 0 else self.section.offset(-inset, m3.JoinType.Round, 2.0, 32).simplify(self.form.simplified)
        self[inset] = found = [np.asarray(p, float) for p in section.to_polygons()]
        return found


class _Band(NamedTuple):
    """A strip of an edge: how far in and how high it begins and ends, and how its normal leans there, from outward (0) to up (half pi)."""

    inset: float
    rise: float
    lean: float
    next_inset: float
    next_rise: float
    next_lean: float


def profile(edge: Edge, fine: int = 0) -> list[_Band]:
    """The strips of an edge from the side to the face. fine: as of `Form`."""
    w, h = edge.width, edge.height
    if w <= 1e-6 or h <= 1e-6:
        return []
    a = np.linspace(0, np.pi / 2, BEVEL_STEPS[fine] + 1)
    if edge.profile == "flat":
        slope = float(np.arctan2(w, h))
        return [_Band(0.0, 0.0, slope, w, h, slope)]
    if edge.profile == "step":
        up = np.pi / 2
        return [
            _Band(0.0, 0.0, up, w / 2, 0.0, up),
            _Band(w / 2, 0.0, 0.0, w / 2, h / 2, 0.0),
            _Band(w / 2, h / 2, up, w, h / 2, up),
            _Band(w, h / 2, 0.0, w, h, 0.0),
        ]
    if edge.profile == "drawn":
        across, risen, steep = drawn_profile(edge.curve)
        inset, rise, lean = w * across, h * risen, np.arctan2(w, h * steep)
    elif edge.profile == "hollow":
        inset, rise, lean = w * np.sin(a), h * (1 - np.cos(a)), np.arctan2(w * np.cos(a), h * np.sin(a))
    else:
        inset, rise, lean = w * (1 - np.cos(a)), h * np.sin(a), np.arctan2(np.sin(a) / h, np.cos(a) / w)
    inset[0], rise[0], inset[-1], rise[-1] = 0.0, 0.0, w, h
    return [_Band(*(float(v) for v in row)) for row in np.c_[inset[:-1], rise[:-1], lean[:-1], inset[1:], rise[1:], lean[1:]]]


def drawn_profile(curve: tuple[float, ...]) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """(n,) inset and rise, 0 to 1, of a profile through points that were drawn, and its slope there. It runs past no point. Source: F. N. Fritsch,
    R. E. Carlson, Monotone Piecewise Cubic Interpolation, SIAM J. Numer. Anal. 17, 1980 (SciPy's PCHIP)."""
    from scipy.interpolate import PchipInterpolator  # not at the start, which is to be quick

    points = np.array([0.0, 0.0, *curve, 1.0, 1.0]).reshape(-1, 2)
    points = np.clip(points, 0, 1)
    x = np.maximum.accumulate(points[:, 0])
    keep = np.concatenate([np.diff(x) > 1e-3, [True]])
    keep[0] = True
    through = PchipInterpolator(x[keep], points[keep, 1]) if keep.sum() > 1 and (np.diff(x[keep]) > 0).all() else PchipInterpolator([0, 1], [0, 1])
    at = np.unique(np.concatenate([np.linspace(a, b, DRAWN_STEPS + 1) for a, b in zip(through.x[:-1], through.x[1:])]))
    return at, np.clip(through(at), 0, 1), through(at, 1)


def _panel(edge: Edge, panel: tuple[float, float]) -> list[_Band]:
    """A face within the face, raised or sunk."""
    margin, rise = panel
    if margin <= 1e-6 or abs(rise) <= 1e-6:
        return []
    inner, up = edge.width + margin, np.pi / 2
    low, high = edge.height, edge.height + rise
    return [_Band(edge.width, low, up, inner, low, up), _Band(inner, low, 0.0, inner, high, 0.0)]


def _corner_normals(p: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Outward normals of the edge after and the edge before each corner of a polygon whose inside lies left."""
    edge = np.concatenate([p[1:], p[:1]]) - p
    after = np.stack([edge[:, 1], -edge[:, 0]], 1)
    after /= np.maximum(np.hypot(after[:, 0], after[:, 1]), 1e-12)[:, None]
    return after, np.concatenate([after[-1:], after[:-1]])


def _smooth(p: np.ndarray) -> np.ndarray:
    after, before = _corner_normals(p)
    n = after + before
    return n / np.maximum(np.hypot(n[:, 0], n[:, 1]), 1e-9)[:, None]


def _band(insets: _Insets, band: _Band, height: float) -> _Strip:
    outer, inner = insets[band.inset], insets[band.next_inset]
    polygons = outer + [p[::-1] for p in inner]
    triangles = np.asarray(m3.triangulate(polygons), int)
    xy = np.concatenate(polygons)
    count = sum(map(len, outer))
    rise, lean = np.full(len(xy), band.next_rise), np.full(len(xy), band.next_lean)
    rise[:count], lean[:count] = band.rise, band.lean
    flat = np.concatenate(insets.smooth(band.inset) + [n[::-1] for n in insets.smooth(band.next_inset)])
    return _Strip(xy, rise - height, np.ones(len(xy)), np.c_[flat * np.cos(lean)[:, None], np.sin(lean)], triangles, EDGE)


def _cap(polygons: list, rise: float) -> _Strip:
    triangles = np.asarray(m3.triangulate(polygons), int)
    xy = np.concatenate(polygons)
    return _Strip(xy, np.full(len(xy), rise), np.ones(len(xy)), np.tile([0.0, 0.0, 1.0], (len(xy), 1)), triangles, FACE)


def _wall(p: np.ndarray, low: tuple[float, float], high: tuple[float, float], part: int, outward: bool = True) -> _Strip:
    """A wall along one contour, between two heights, each against the plane of a side; corners sharper than 30 degrees stay sharp.

    outward: the body is within the contour there; else round it.
    """
    (z0, side0), (z1, side1) = low, high
    after, before = _corner_normals(p)
    round_ = ((after * before).sum(1) > CREASE)[:, None]
    mean = _smooth(p)
    start = np.where(round_, mean, after)
    end = np.roll(np.where(round_, mean, before), -1, 0)
    q, m = np.roll(p, -1, 0), len(p)
    i = np.arange(m)
    normal = np.c_[np.concatenate([start, end, end, start]) * (1 if outward else -1), np.zeros(4 * m)]
    triangles = np.concatenate([np.c_[i, i + 3 * m, i + 2 * m], np.c_[i, i + 2 * m, i + m]])
    rise, side = np.repeat([z1, z1, z0, z0], m), np.repeat([side1, side1, side0, side0], m)
    return _Strip(np.concatenate([p, q, q, p]), rise, side, normal, triangles if outward else triangles[:, ::-1], part)
