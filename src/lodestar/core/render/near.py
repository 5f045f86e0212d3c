"""Lamps that are near, and what glows: which of them a place asks, and the light of a point of one.

Many lamps are a tree. A place goes down it by chance, to the side that may give it more, so that it asks those that matter however many there are.
Source: A. Conty Estevez, C. Kulla, Importance Sampling of Many Lights with Adaptive Tree Splitting, HPG 2018; of the leaves each lamp is asked by what it
would give if nothing were between.
"""

import math
from collections.abc import Sequence
from typing import NamedTuple

import numpy as np

from ..basics.jit import inlined, part
from ..light.lamps import AreaLight, SpotLight
from .geometry import SENT, SENT_ACROSS, SENT_COLOUR, SENT_CORNER, SENT_SUM, SENT_UP, sent_middles
from .sampling import LAMP
from .vectors import around, dot, normalised, smoothstep

BEFORE = 0.999  # of the way to a lamp, beyond which it is the lamp itself
ASKED = 2  # near lamps by each sample at a place
LEAF = 32  # lamps of a leaf at most: with 8, of spots that shine anywhere, the light of a place had twice the noise for two thirds of the time (measured)
LEAST = 0.05  # of a node's light, as long as one of its lamps may shine there: those that shine wide do so beyond a right angle
# columns of `Lights.near`: kind; colour; place; the unit direction in which an area or a spot shines; an area's u and v, and its size; the cosines of a
# spot's edge and of where it is full; radius of the ball round all of it; of one that glows, its first triangle and how many there are; how strong it is as a whole
KIND, NEAR_COLOUR, NEAR_PLACE, AXIS, U, V, AREA, EDGE, FULL, RADIUS, FIRST, COUNT, POWER, NEAR = 0, 1, 4, 7, 10, 13, 16, 17, 18, 19, 20, 21, 22, 23
SQUARE, ROUND, SPOT, GLOWS = range(4)
# columns of `Lights.tree`, whose node's first side follows it: the ball round its lamps; the middle of their directions, and by how many radians those lie off
# it; how far from its own direction any of them shines; their power; the other side; of a leaf its first lamp and how many there are, 0 of what is none
BALL, BALL_RADIUS, MIDDLE, OFF_MIDDLE, SHINES, ALL_POWER, OTHER, FIRST_LAMP, LAMPS, NODE = 0, 3, 4, 7, 8, 9, 10, 11, 12, 13


@inlined
def _nearer(cosine, wide, narrow):
    """Cosine of an angle less the half width of a ball, whose sine and cosine are given; 1 from within it."""
    return 1.0 if cosine >= narrow or wide >= 1.0 else cosine * narrow + math.sqrt(max(1.0 - cosine * cosine, 0.0)) * wide


@inlined
def _reaches(lamp, p, n):
    """How much of a lamp's light a place with normal n may get if nothing is between: never 0 where it gets some, and all of it for a point that shines."""
    x, y, z = lamp[NEAR_PLACE] - p[0], lamp[NEAR_PLACE + 1] - p[1], lamp[NEAR_PLACE + 2] - p[2]
    square = x * x + y * y + z * z + 1e-9
    unit = 1.0 / math.sqrt(square)
    wide = min(lamp[RADIUS] * unit, 1.0)
    narrow = math.sqrt(1.0 - wide * wide)
    part_ = max(_nearer(unit * (n[0] * x + n[1] * y + n[2] * z), wide, narrow), 0.0)
    if lamp[KIND] != GLOWS:
        along_ = _nearer(-unit * (lamp[AXIS] * x + lamp[AXIS + 1] * y + lamp[AXIS + 2] * z), wide, narrow)
        if lamp[KIND] != SPOT:
            part_ *= max(along_, 0.0)
        elif lamp[EDGE] > -1.5:
            part_ *= smoothstep(lamp[EDGE], lamp[FULL], along_)
    return lamp[POWER] * part_ / (square + lamp[RADIUS] * lamp[RADIUS])


@inlined
def _may_reach(node, p, n):
    """The same of all lamps of a node, as if they were one in its middle; never 0 where one of them gives some."""
    x, y, z = node[BALL] - p[0], node[BALL + 1] - p[1], node[BALL + 2] - p[2]
    square = x * x + y * y + z * z + 1e-9
    unit = 1.0 / math.sqrt(square)
    wide = min(node[BALL_RADIUS] * unit, 1.0)
    part_ = _nearer(unit * (n[0] * x + n[1] * y + n[2] * z), wide, math.sqrt(1.0 - wide * wide))
    if part_ <= 0:
        return 0.0
    if wide < 1.0 and node[OFF_MIDDLE] + node[SHINES] < math.pi:
        cosine = -unit * (node[MIDDLE] * x + node[MIDDLE + 1] * y + node[MIDDLE + 2] * z)
        angle = math.acos(min(max(cosine, -1.0), 1.0)) - node[OFF_MIDDLE] - math.asin(wide)
        if angle >= node[SHINES]:
            return 0.0
        part_ *= max(math.cos(max(angle, 0.0)), LEAST)
    return node[ALL_POWER] * part_ / (square + node[BALL_RADIUS] * node[BALL_RADIUS])


@part
def _chosen(lights, p, n, u):
    """A lamp that a place asks, by a number u from 0 to 1, and with what chance; 0 where none gives it any."""
    node, chance = 0, 1.0
    while lights.tree[node, LAMPS] == 0:
        other = int(lights.tree[node, OTHER])
        a, b = _may_reach(lights.tree[node + 1], p, n), _may_reach(lights.tree[other], p, n)
        if a + b <= 0:
            return 0, 0.0
        share = a / (a + b)
        if u < share or share >= 1.0:  # u may be rounded to 1
            node, u, chance = node + 1, u / share, chance * share
        else:
            node, u, chance = other, (u - share) / (1.0 - share), chance * (1.0 - share)
    first = int(lights.tree[node, FIRST_LAMP])
    lamp, weight, total = first, 0.0, 0.0
    for k in range(first, first + int(lights.tree[node, LAMPS])):
        w = _reaches(lights.near[k], p, n)
        if w > 0:
            # each in its turn takes the place of those before it by its share of all so far, and what is left of u is even again
            total += w
            share = w / total
            if u < share or share >= 1.0:
                lamp, weight, u = k, w, u / share
            else:
                u = (u - share) / (1.0 - share)
    return lamp, chance * weight / total if total > 0 else 0.0


@inlined
def asked(lights):
    """How many of the near lamps a place asks: all of a few, else as many that are chosen by what they may give."""
    return min(lights.near.shape[0], ASKED)


@inlined
def from_near(lights, which, p, n, sample):
    """Light (3) of lamp `which` of those that a place with normal n asks, if nothing is between; the unit direction and distance of the point of it
    that is asked; and whether it is a thing that glows, which mirrors show by themselves.

    Source: many lights by their share, M. Pharr, W. Jakob, G. Humphreys, Physically Based Rendering, 3rd ed., 14.3.
    """
    nothing = (0.0, 0.0, 0.0), (0.0, 0.0, 1.0), 0.0, False
    chosen, share = which, 1.0
    if lights.near.shape[0] > ASKED:
        chosen, share = _chosen(lights, p, n, (sample[LAMP] + which) / ASKED)
        share *= ASKED
        if share <= 0:
            return nothing
    lamp = lights.near[chosen]
    a, b = sample[LAMP + 1], sample[LAMP + 2]
    kind = int(lamp[KIND])
    q = (lamp[NEAR_PLACE], lamp[NEAR_PLACE + 1], lamp[NEAR_PLACE + 2])
    red, green, blue = lamp[NEAR_COLOUR], lamp[NEAR_COLOUR + 1], lamp[NEAR_COLOUR + 2]
    m, area = (lamp[AXIS], lamp[AXIS + 1], lamp[AXIS + 2]), lamp[AREA]
    if kind == GLOWS:
        # the triangle at a share of all that is sent, by halving, and a place in it
        first, low, high = int(lamp[FIRST]), 0, int(lamp[COUNT]) - 1
        whole = lights.sent[first + high, SENT_SUM]
        wanted = a * whole
        while low < high:
            middle = (low + high) // 2
            if lights.sent[first + middle, SENT_SUM] < wanted:
                low = middle + 1
            else:
                high = middle
        row = lights.sent[first + low]
        before = lights.sent[first + low - 1, SENT_SUM] if low > 0 else 0.0
        root = math.sqrt(min(max((wanted - before) / max(row[SENT_SUM] - before, 1e-30), 0.0), 1.0))
        s, t = 1.0 - root, b * root
        x, y, z = row[SENT_ACROSS], row[SENT_ACROSS + 1], row[SENT_ACROSS + 2]
        f, g, h = row[SENT_UP], row[SENT_UP + 1], row[SENT_UP + 2]
        q = (row[SENT_CORNER] + s * x + t * f, row[SENT_CORNER + 1] + s * y + t * g, row[SENT_CORNER + 2] + s * z + t * h)
        m = normalised((y * h - z * g, z * f - x * h, x * g - y * f))
        red, green, blue, area = row[SENT_COLOUR], row[SENT_COLOUR + 1], row[SENT_COLOUR + 2], whole
    elif kind == SPOT:
        # a place on its disc, across the line of sight
        if lamp[RADIUS] > 0:
            away = normalised((q[0] - p[0], q[1] - p[1], q[2] - p[2]))
            r, angle = lamp[RADIUS] * math.sqrt(a), 2 * math.pi * b
            off_ = around(away, r * math.cos(angle), r * math.sin(angle), 0.0)
            q = (q[0] + off_[0], q[1] + off_[1], q[2] + off_[2])
    else:
        s, t = 2 * a - 1, 2 * b - 1
        if kind == ROUND:
            r, angle = math.sqrt(a), 2 * math.pi * b
            s, t = r * math.cos(angle), r * math.sin(angle)
        q = (q[0] + s * lamp[U] + t * lamp[V], q[1] + s * lamp[U + 1] + t * lamp[V + 1], q[2] + s * lamp[U + 2] + t * lamp[V + 2])
    d = (q[0] - p[0], q[1] - p[1], q[2] - p[2])
    square = max(d[0] * d[0] + d[1] * d[1] + d[2] * d[2], 1e-9)
    far = math.sqrt(square)
    d = (d[0] / far, d[1] / far, d[2] / far)
    towards = dot(n, d)
    if towards <= 0:
        return nothing
    leaves = -dot(m, d)
    if kind == SPOT:
        gives = 1.0 if lamp[EDGE] < -1.5 else smoothstep(lamp[EDGE], lamp[FULL], leaves)
        part_ = gives / (square * share)
    else:
        if leaves <= 0:
            return nothing
        part_ = leaves * area / (math.pi * square * share)
    return (part_ * red, part_ * green, part_ * blue), d, far, kind == GLOWS


class NearLamps(NamedTuple):
    """Lamps that are near and things that glow as kernels take them: table (m, NEAR), in the order of the leaves of tree (k, NODE); sent (j, SENT): the
    triangles of those that glow."""

    table: np.ndarray
    tree: np.ndarray
    sent: np.ndarray


def near_of(lights: Sequence[object], sent: list[np.ndarray], origin: np.ndarray, scale: float) -> NearLamps:
    """Of the lights that are near and of what glows, of which `sent` has the triangles as `geometry.sent_light` gives them; in the axes of a stage."""
    rows = [_row(light, origin, scale) for light in lights if isinstance(light, AreaLight | SpotLight) and light.colour.max() > 0]
    first = 0
    for triangles in sent:
        rows.append(_glowing(triangles, first))
        first += len(triangles)
    table = np.array(rows, float).reshape(-1, NEAR)
    order, nodes = np.arange(len(table)), list[np.ndarray]()
    if len(table):
        _grow(table, order, 0, nodes)
    return NearLamps(table[order], np.array(nodes, float).reshape(-1, NODE), np.ascontiguousarray(np.concatenate([*sent, np.zeros((0, SENT))])))


def _row(light: AreaLight | SpotLight, origin: np.ndarray, scale: float) -> np.ndarray:
    row = np.zeros(NEAR)
    if isinstance(light, AreaLight):
        row[KIND] = ROUND if light.round else SQUARE
        row[NEAR_PLACE : NEAR_PLACE + 3] = (light.centre - origin) / scale
        row[U : U + 3], row[V : V + 3] = light.u / scale, light.v / scale
        across = np.cross(light.u, light.v)
        half = max(float(np.linalg.norm(across)), 1e-30)
        row[AXIS : AXIS + 3], row[AREA] = across / half, half / scale**2 * (np.pi if light.round else 4.0)
        row[NEAR_COLOUR : NEAR_COLOUR + 3] = light.colour
        row[POWER] = float(light.colour.max()) * row[AREA] / np.pi
        row[RADIUS] = float(np.hypot(np.linalg.norm(light.u), np.linalg.norm(light.v))) / scale
        return row
    row[KIND] = SPOT
    row[NEAR_PLACE : NEAR_PLACE + 3] = (light.place - origin) / scale
    row[AXIS : AXIS + 3] = light.direction
    row[EDGE], row[FULL], row[RADIUS] = light.edge, light.full, light.radius / scale
    # one unit of the scene is so many of the rays' axes
    row[NEAR_COLOUR : NEAR_COLOUR + 3] = light.colour / scale**2
    row[POWER] = float(light.colour.max()) / scale**2
    return row


def _glowing(triangles: np.ndarray, first: int) -> np.ndarray:
    row = np.zeros(NEAR)
    row[KIND], row[FIRST], row[COUNT], row[POWER] = GLOWS, first, len(triangles), float(triangles[-1, SENT_SUM]) / np.pi
    row[NEAR_PLACE : NEAR_PLACE + 3] = middle = sent_middles(triangles).mean(0)
    corner, across, up = (triangles[:, k : k + 3] for k in (SENT_CORNER, SENT_ACROSS, SENT_UP))
    row[RADIUS] = max(float(np.linalg.norm(corners - middle, axis=1).max()) for corners in (corner, corner + across, corner + up))
    return row


def _grow(table: np.ndarray, order: np.ndarray, first: int, nodes: list[np.ndarray]) -> None:
    """Add the node of the lamps `order` (a view, sorted here), which will be those from `first` on, and all that are under it."""
    node, lamps = np.zeros(NODE), table[order]
    nodes.append(node)
    places, radii, axes = lamps[:, NEAR_PLACE : NEAR_PLACE + 3], lamps[:, RADIUS], lamps[:, AXIS : AXIS + 3]
    middle = ((places - radii[:, None]).min(0) + (places + radii[:, None]).max(0)) / 2
    node[BALL : BALL + 3], node[BALL_RADIUS] = middle, (np.linalg.norm(places - middle, axis=1) + radii).max()
    shines = np.select([lamps[:, KIND] == GLOWS, lamps[:, KIND] == SPOT], [np.pi, np.arccos(np.clip(lamps[:, EDGE], -1, 1))], np.pi / 2)
    mean = axes.sum(0)
    mean /= max(float(np.linalg.norm(mean)), 1e-12)
    node[MIDDLE : MIDDLE + 3], node[OFF_MIDDLE] = mean, np.arccos(np.clip(axes @ mean, -1, 1)).max()
    node[SHINES], node[ALL_POWER] = shines.max(), lamps[:, POWER].sum()
    if len(order) <= LEAF:
        node[FIRST_LAMP], node[LAMPS] = first, len(order)
        return
    half = len(order) // 2
    order[:] = order[np.argsort(places[:, np.ptp(places, axis=0).argmax()], kind="stable")]
    _grow(table, order[:half], first, nodes)
    node[OTHER] = len(nodes)
    _grow(table, order[half:], first + half, nodes)
