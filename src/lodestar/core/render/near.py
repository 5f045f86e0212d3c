"""Lamps that are near, and what glows: which of them a place asks, and the light of a point of one."""

import math

from ..basics.jit import inlined
from .geometry import SENT_ACROSS, SENT_COLOUR, SENT_CORNER, SENT_SUM, SENT_UP
from .sampling import LAMP
from .vectors import around, dot, normalised, smoothstep

BEFORE = 0.999  # of the way to a lamp, beyond which it is the lamp itself
ASKED = 2  # near lamps by each sample at a place
# columns of `Lights.near`: kind; colour; place; an area's u and v, or a spot's direction with the cosines of its edge and of where it is full;
# a spot's radius; of one that glows, its first triangle and how many there are; how strong it is as a whole
KIND, NEAR_COLOUR, NEAR_PLACE, U, V, EDGE, FULL, RADIUS, FIRST, COUNT, POWER, NEAR = 0, 1, 4, 7, 10, 10, 11, 13, 14, 15, 16, 17
SQUARE, ROUND, SPOT, GLOWS = range(4)


@inlined
def _reaches(lamp, p, n):
    """A guess at how much of a lamp's light a place may get, by which lamps are chosen."""
    x, y, z = lamp[NEAR_PLACE] - p[0], lamp[NEAR_PLACE + 1] - p[1], lamp[NEAR_PLACE + 2] - p[2]
    return lamp[POWER] / (x * x + y * y + z * z + lamp[RADIUS] * lamp[RADIUS] + 1e-6)


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
    count = lights.near.shape[0]
    nothing = (0.0, 0.0, 0.0), (0.0, 0.0, 1.0), 0.0, False
    chosen, share = which, 1.0
    if count > ASKED:
        total = 0.0
        for k in range(count):
            total += _reaches(lights.near[k], p, n)
        if total <= 0:
            return nothing
        u = (sample[LAMP] + which) / ASKED * total
        for k in range(count):
            w = _reaches(lights.near[k], p, n)
            chosen, share = k, ASKED * w / total
            if u < w:
                break
            u -= w
    lamp = lights.near[chosen]
    a, b = sample[LAMP + 1], sample[LAMP + 2]
    kind = int(lamp[KIND])
    q = (lamp[NEAR_PLACE], lamp[NEAR_PLACE + 1], lamp[NEAR_PLACE + 2])
    red, green, blue = lamp[NEAR_COLOUR], lamp[NEAR_COLOUR + 1], lamp[NEAR_COLOUR + 2]
    m, area = (0.0, 0.0, 0.0), 0.0
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
        m = (
            lamp[U + 1] * lamp[V + 2] - lamp[U + 2] * lamp[V + 1],
            lamp[U + 2] * lamp[V] - lamp[U] * lamp[V + 2],
            lamp[U] * lamp[V + 1] - lamp[U + 1] * lamp[V],
        )
        half = math.sqrt(m[0] * m[0] + m[1] * m[1] + m[2] * m[2])
        area = half * (math.pi if kind == ROUND else 4.0)
        unit = 1.0 / max(half, 1e-30)
        m = (m[0] * unit, m[1] * unit, m[2] * unit)
    d = (q[0] - p[0], q[1] - p[1], q[2] - p[2])
    square = max(d[0] * d[0] + d[1] * d[1] + d[2] * d[2], 1e-9)
    far = math.sqrt(square)
    d = (d[0] / far, d[1] / far, d[2] / far)
    towards = dot(n, d)
    if towards <= 0:
        return nothing
    if kind == SPOT:
        along_ = -(d[0] * lamp[U] + d[1] * lamp[U + 1] + d[2] * lamp[U + 2])
        gives = 1.0 if lamp[EDGE] < -1.5 else smoothstep(lamp[EDGE], lamp[FULL], along_)
        part = gives / (square * share)
    else:
        leaves = -dot(m, d)
        if leaves <= 0:
            return nothing
        part = leaves * area / (math.pi * square * share)
    return (part * red, part * green, part * blue), d, far, kind == GLOWS
