"""How one of ours looks at a place: its colour and alpha, and the pattern that goes through it."""

import math

from ..basics.jit import inlined, part
from .geometry import (
    AMOUNT,
    BASE,
    FADE,
    FIRST_STEP,
    GIVES,
    MAPS,
    MOVED,
    OPACITY,
    PICTURE,
    RELIEF,
    ROUGHNESS,
    SECOND,
    TEXTURE,
    TO_PATTERN,
    TURNED,
    WIDE,
)
from .meeting import painted, tiled
from .textures import PICTURED, STEP, WEAVE, pattern
from .vectors import bright, dot, normalised, smoothstep


@inlined
def surface_at(things, number, value, own, travelled, px):
    """Colour and alpha of one of ours at a place in its own axes; px: how much of these one px of the picture covers."""
    base, alpha = (value[BASE], value[BASE + 1], value[BASE + 2]), value[OPACITY]
    if number[PICTURE] >= 0:
        picture = number[PICTURE]
        red, green, blue, cover = painted(things, picture, own[0], own[2], px * things.levels[picture, 0, WIDE])
        base, alpha = (base[0] * red, base[1] * green, base[2] * blue), alpha * cover
    if travelled < value[FADE]:
        alpha *= smoothstep(0.5 * value[FADE], value[FADE], travelled)
    return base, alpha


@inlined
def _laid_over(things, look, picture, x, y, z, n, px, as_maps):
    """Red, green, blue of a picture that is laid over a solid from its three sides, at a place in its sizes with normal n in its axes, or the numbers
    of its maps; where the solid turns from one side to the other they are blended. px: sizes of it that one px of ours covers. Source: B. Geiss, GPU Gems
    3, ch. 1 (three planar maps)."""
    a, b, c = n[0] * n[0], n[1] * n[1], n[2] * n[2]
    a, b, c = a * a * a, b * b * b, c * c * c
    total = max(a + b + c, 1e-12)
    red, green, blue = 0.0, 0.0, 0.0
    for side in range(3):
        share = (a if side == 0 else b if side == 1 else c) / total
        if share < 0.01:
            continue
        u, v = (y, z) if side == 0 else (x, z) if side == 1 else (x, y)
        u, v = u + look[MOVED], v + look[MOVED + 1]
        u, v = look[TURNED] * u + look[TURNED + 1] * v, look[TURNED] * v - look[TURNED + 1] * u
        r, g, h = tiled(things, picture, u, v, px * things.levels[picture, 0, WIDE], as_maps)
        red, green, blue = red + share * r, green + share * g, blue + share * h
    return red, green, blue


@inlined
def _height(things, look, picture, x, y, z, n, px, as_maps):
    """How high the relief stands there: as its map says, or as bright as its colour is."""
    r, g, b = _laid_over(things, look, picture, x, y, z, n, px, as_maps)
    return r if as_maps else bright((r, g, b))


@part
def patterned(things, number, look, base, own, n, px):
    """Colour, roughness and normal of a surface with the pattern that goes through it, or the picture that is laid over it; px: how much of these
    axes one px of the picture covers."""
    kind, k = int(look[TEXTURE]), TO_PATTERN
    x = look[k] * own[0] + look[k + 1] * own[1] + look[k + 2] * own[2] + look[k + 3]
    y = look[k + 4] * own[0] + look[k + 5] * own[1] + look[k + 6] * own[2] + look[k + 7]
    z = look[k + 8] * own[0] + look[k + 9] * own[1] + look[k + 10] * own[2] + look[k + 11]
    # the first of its places turns its own axes into those of the rays
    m, q = things.matrices[number[FIRST_STEP]], look[TO_PATTERN : TO_PATTERN + 12]
    size = m[0, 0] * m[0, 0] + m[1, 0] * m[1, 0] + m[2, 0] * m[2, 0]
    width = math.sqrt(size) / max(math.sqrt(q[0] * q[0] + q[4] * q[4] + q[8] * q[8]), 1e-12)
    of_relief, covered, facing, gives_relief = -1, px / max(width, 1e-12), (0.0, 1.0, 0.0), False
    rough, share, high = look[ROUGHNESS], look[AMOUNT], 0.0
    if kind == PICTURED:
        picture, maps = int(look[SECOND]), int(look[MAPS])
        facing = normalised(
            (
                m[0, 0] * n[0] + m[1, 0] * n[1] + m[2, 0] * n[2],
                m[0, 1] * n[0] + m[1, 1] * n[1] + m[2, 1] * n[2],
                m[0, 2] * n[0] + m[1, 2] * n[1] + m[2, 2] * n[2],
            )
        )
        if picture >= 0:
            r, g, b = _laid_over(things, look, picture, x, y, z, facing, covered, False)
            of_relief, high = picture, bright((r, g, b))
            base = (base[0] + share * (r - base[0]), base[1] + share * (g - base[1]), base[2] + share * (b - base[2]))
        if maps >= 0:
            up, matt, _ = _laid_over(things, look, maps, x, y, z, facing, covered, True)
            if int(look[GIVES]) & 1:
                of_relief, high, gives_relief = maps, up, True
            if int(look[GIVES]) & 2:
                rough = min(max(rough + share * (matt - rough), 0.03), 1.0)
    else:
        share, high = pattern(kind, x, y, z)
        share *= look[AMOUNT]
        base = (
            base[0] + share * (look[SECOND] - base[0]),
            base[1] + share * (look[SECOND + 1] - base[1]),
            base[2] + share * (look[SECOND + 2] - base[2]),
        )
        if kind != WEAVE and kind < PICTURED:
            rough = min(max(look[ROUGHNESS] * (0.7 + 0.6 * share), 0.03), 1.0)
    if look[RELIEF] > 0 and (kind != PICTURED or of_relief >= 0):
        step = STEP
        if kind == PICTURED:
            # a map is as fine as its px; what a colour says of height is not
            step = max(1.0 / things.levels[of_relief, 0, WIDE] if gives_relief else STEP, covered)
        s = look[RELIEF] / step
        g0, g1, g2 = 0.0, 0.0, 0.0
        if kind == PICTURED:
            g0 = s * (_height(things, look, of_relief, x + step, y, z, facing, covered, gives_relief) - high)
            g1 = s * (_height(things, look, of_relief, x, y + step, z, facing, covered, gives_relief) - high)
            g2 = s * (_height(things, look, of_relief, x, y, z + step, facing, covered, gives_relief) - high)
        else:
            g0 = s * (pattern(kind, x + step, y, z)[1] - high)
            g1 = s * (pattern(kind, x, y + step, z)[1] - high)
            g2 = s * (pattern(kind, x, y, z + step)[1] - high)
        g = (q[0] * g0 + q[4] * g1 + q[8] * g2, q[1] * g0 + q[5] * g1 + q[9] * g2, q[2] * g0 + q[6] * g1 + q[10] * g2)
        w = (
            m[0, 0] * g[0] + m[0, 1] * g[1] + m[0, 2] * g[2],
            m[1, 0] * g[0] + m[1, 1] * g[1] + m[1, 2] * g[2],
            m[2, 0] * g[0] + m[2, 1] * g[1] + m[2, 2] * g[2],
        )
        # in sizes of the pattern by way: sizes of the rays' axes go out
        k = width / max(size, 1e-24)
        w = (w[0] * k, w[1] * k, w[2] * k)
        over = dot(w, n)
        n = normalised((n[0] - w[0] + over * n[0], n[1] - w[1] + over * n[1], n[2] - w[2] + over * n[2]))
    return base, rough, n
