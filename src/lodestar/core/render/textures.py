"""Patterns that go through a solid, as stone and wood have them: they need no map, so that nothing is stretched over an edge.

Each gives at a place how much of the second colour there is, and how high the surface stands; kernels ask along all three axes for the slope.
Sources: gradient noise, K. Perlin, Improving Noise, SIGGRAPH 2002; sums of octaves and rings of wood, D. Ebert and others, Texturing &
Modeling, 3rd ed.
"""

import math

import numpy as np

from ..basics.jit import inlined

PLAIN, STONE, BRUSHED, WOOD, WEAVE, WORN, BRICK = range(7)
PICTURED = 7  # a picture, laid over a solid from its three sides
UPWARD, ALONG = 8, 9  # from the first colour to the second one: from the foot up, and from left to right with the middle halfway
NAMES = ("none", "stone", "brushed", "wood", "weave", "worn", "brick", "picture", "gradient up", "gradient along")
RIPPLES = len(NAMES)  # of water: no colour, and the third way is time
STEP = 0.01  # of the pattern's size, over which its slope is taken


@inlined
def _hash(x, y, z):
    h = np.uint32((x * 0x8DA6B343) ^ (y * 0xD8163841) ^ (z * 0xCB1AB31F))
    h ^= h >> np.uint32(15)
    h = np.uint32(h * np.uint32(0x2C1B3C6D))
    h ^= h >> np.uint32(12)
    h = np.uint32(h * np.uint32(0x297A2D39))
    return h ^ (h >> np.uint32(15))


@inlined
def _slope(h, x, y, z):
    """One of twelve gradients, times a way."""
    k = h & np.uint32(15)
    u = x if k < 8 else y
    v = y if k < 4 else (x if k == 12 or k == 14 else z)
    return (u if k & np.uint32(1) == 0 else -u) + (v if k & np.uint32(2) == 0 else -v)


@inlined
def _fade(t):
    return t * t * t * (t * (t * 6.0 - 15.0) + 10.0)


@inlined
def noise(x, y, z):
    """Gradient noise, some -1 to 1."""
    i, j, k = math.floor(x), math.floor(y), math.floor(z)
    x, y, z = x - i, y - j, z - k
    a, b, c = int(i), int(j), int(k)
    u, v, w = _fade(x), _fade(y), _fade(z)
    total = 0.0
    for dz in range(2):
        for dy in range(2):
            for dx in range(2):
                share = (u if dx else 1.0 - u) * (v if dy else 1.0 - v) * (w if dz else 1.0 - w)
                total += share * _slope(_hash(a + dx, b + dy, c + dz), x - dx, y - dy, z - dz)
    return total


@inlined
def _octaves(x, y, z, count):
    total, size = 0.0, 1.0
    for _ in range(count):
        total += noise(x, y, z) * size
        x, y, z, size = 2.03 * x + 17.1, 2.03 * y + 5.3, 2.03 * z + 9.7, 0.5 * size
    return total


@inlined
def _unit(t):
    return min(max(t, 0.0), 1.0)


@inlined
def pattern(kind, x, y, z):
    """Share of the second colour, 0 to 1, and height, 0 to 1, at a place in sizes of the pattern."""
    if kind == UPWARD:
        return _unit(z), 0.0
    if kind == ALONG:
        return _unit(x + 0.5), 0.0
    if kind == STONE:
        broad, fine = _octaves(x, y, z, 4), noise(9.0 * x, 9.0 * y, 9.0 * z)
        return _unit(0.5 + 0.7 * broad + 0.35 * fine), _unit(0.5 + 0.45 * broad + 0.4 * fine)
    if kind == BRUSHED:
        line = noise(0.6 * x, 40.0 * y, 40.0 * z) + 0.6 * noise(1.3 * x, 97.0 * y, 97.0 * z)
        return _unit(0.5 + 0.45 * line), _unit(0.5 + 0.5 * line)
    if kind == WOOD:
        bend = 0.35 * _octaves(0.5 * x, 1.5 * y, 1.5 * z, 2)
        ring = math.hypot(y + bend + 3.0, z + 0.4 * bend + 1.0) * 6.0
        ring -= math.floor(ring)
        fibre = noise(3.0 * x, 60.0 * y, 60.0 * z)
        return _unit(ring * ring + 0.25 * fibre), _unit(1.0 - 0.6 * ring * ring + 0.3 * fibre)
    if kind == WEAVE:
        # threads across and along the face, two over two
        i, j = math.floor(4.0 * x), math.floor(4.0 * z)
        over = (int(i) + int(j)) & 3 < 2
        s, t = 4.0 * x - i - 0.5, 4.0 * z - j - 0.5
        across = s if over else t
        return _unit(0.25 + 0.5 * (1.0 if over else 0.0)), _unit(1.0 - 2.0 * across * across)
    if kind == WORN:
        spread = _octaves(x, y, z, 5)
        edge = _unit((spread + 0.05) * 9.0)
        return edge, _unit(0.5 - 0.3 * edge + 0.3 * noise(7.0 * x, 7.0 * y, 7.0 * z))
    if kind == RIPPLES:
        return 0.0, 0.5 + 0.25 * (noise(x, y, z) + 0.5 * noise(2.3 * x + 3.1, 1.9 * y - 7.7, 1.6 * z) + 0.25 * noise(4.9 * x, 5.3 * y, 2.7 * z))
    row = math.floor(3.0 * z)
    along = 1.5 * x + 0.5 * (int(row) & 1)
    s, t = along - math.floor(along), 3.0 * z - row
    rough = 0.15 * noise(11.0 * x, 11.0 * y, 11.0 * z)
    stone = min(_unit(min(s, 1.0 - s) * 22.0), _unit(min(t, 1.0 - t) * 11.0))
    tone = (_hash(int(math.floor(along)), int(row), 7) & np.uint32(255)) / 255.0
    return _unit((1.0 - stone) * 0.9 + 0.35 * tone * stone), _unit(0.8 * stone + rough)
