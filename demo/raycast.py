"""A small ray caster for the demo shots: solids and rough ground, sun and sky light, textures with detail at every scale."""

import numba as nb
import numpy as np

from scenery import (
    BOX,
    CAPSULE,
    CLOTH,
    CYLINDER,
    DARK,
    DOME,
    FLAGS,
    GRASS,
    LEAF,
    METAL,
    PAINT,
    RUBBER,
    SKIN,
    SLATE,
    STONE,
    TERRAIN_SIZE_M,
    TROUSERS,
    WATER,
    WOOD,
)

JIT = dict(cache=True, nogil=True, fastmath=True)
FAR = 1e9
NO_WATER = np.array([[-1e6, 0.0, 0.0, 0.0, 0.0]])


@nb.njit(**JIT)
def hash3(x, y, z):
    h = (x * 374761393 + y * 668265263 + z * 1442695041) & 0xFFFFFFFF
    h = ((h ^ (h >> 13)) * 1274126177) & 0xFFFFFFFF
    h = ((h ^ (h >> 16)) * 2246822519) & 0xFFFFFFFF
    return ((h ^ (h >> 15)) & 0xFFFFFF) / 16777216.0


@nb.njit(**JIT)
def value_noise(x, y, z):
    fx, fy, fz = np.floor(x), np.floor(y), np.floor(z)
    i, j, k = int(fx), int(fy), int(fz)
    u, v, w = x - fx, y - fy, z - fz
    u, v, w = u * u * (3 - 2 * u), v * v * (3 - 2 * v), w * w * (3 - 2 * w)
    total = 0.0
    for a in range(2):
        for b in range(2):
            for c in range(2):
                weight = (u if a else 1 - u) * (v if b else 1 - v) * (w if c else 1 - w)
                total += weight * hash3(i + a, j + b, k + c)
    return total


@nb.njit(**JIT)
def detail(x, y, z, frequency, size, octaves):
    """Noise in -1..1 summed over octaves; those finer than `size` (m, one pixel there) are left out."""
    total, gain, norm = 0.0, 1.0, 0.0
    for o in range(octaves):
        if frequency * size > 0.6:
            break
        total += gain * (2 * value_noise(x * frequency, y * frequency, z * frequency + 7.3 * o) - 1)
        norm += gain
        frequency *= 2.1
        gain *= 0.72
    return total / max(norm, 1.0)


@nb.njit(**JIT)
def hit_box(s, i, ox, oy, oz, dx, dy, dz, n):
    near, far, axis = -FAR, FAR, 0
    o = (ox, oy, oz)
    d = (dx, dy, dz)
    for a in range(3):
        inv = 1.0 / d[a] if abs(d[a]) > 1e-12 else 1e12
        t0, t1 = (s[i, 2 + a] - o[a]) * inv, (s[i, 5 + a] - o[a]) * inv
        if t0 > t1:
            t0, t1 = t1, t0
        if t0 > near:
            near, axis = t0, a
        far = min(far, t1)
    if near > far or near < 1e-4:
        return FAR
    n[0], n[1], n[2] = 0.0, 0.0, 0.0
    n[axis] = -1.0 if d[axis] > 0 else 1.0
    return near


@nb.njit(**JIT)
def hit_ball(cx, cy, cz, r, ox, oy, oz, dx, dy, dz, upper, n):
    px, py, pz = ox - cx, oy - cy, oz - cz
    b = px * dx + py * dy + pz * dz
    q = b * b - (px * px + py * py + pz * pz - r * r)
    if q <= 0:
        return FAR
    t = -b - np.sqrt(q)
    if t < 1e-4 or (upper and pz + t * dz < 0):
        return FAR
    n[0], n[1], n[2] = (px + t * dx) / r, (py + t * dy) / r, (pz + t * dz) / r
    return t


@nb.njit(**JIT)
def hit_cylinder(s, i, ox, oy, oz, dx, dy, dz, n):
    r, px, py = s[i, 8], ox - s[i, 2], oy - s[i, 3]
    best = FAR
    a = dx * dx + dy * dy
    b = px * dx + py * dy
    q = b * b - a * (px * px + py * py - r * r)
    if q > 0 and a > 1e-12:
        t = (-b - np.sqrt(q)) / a
        z = oz + t * dz
        if t > 1e-4 and s[i, 4] <= z <= s[i, 7]:
            best = t
            n[0], n[1], n[2] = (px + t * dx) / r, (py + t * dy) / r, 0.0
    if dz < 0:
        t = (s[i, 7] - oz) / dz
        if 1e-4 < t < best and (px + t * dx) ** 2 + (py + t * dy) ** 2 < r * r:
            best = t
            n[0], n[1], n[2] = 0.0, 0.0, 1.0
    return best


@nb.njit(**JIT)
def hit_capsule(s, i, ox, oy, oz, dx, dy, dz, n):
    """Source: the closed form for a swept ball, solved as a quadratic in the ray parameter."""
    bx, by, bz = s[i, 5] - s[i, 2], s[i, 6] - s[i, 3], s[i, 7] - s[i, 4]
    px, py, pz = ox - s[i, 2], oy - s[i, 3], oz - s[i, 4]
    bb, bd, bo = bx * bx + by * by + bz * bz, bx * dx + by * dy + bz * dz, bx * px + by * py + bz * pz
    od, oo = px * dx + py * dy + pz * dz, px * px + py * py + pz * pz
    a, b, c = bb - bd * bd, bb * od - bo * bd, bb * oo - bo * bo - s[i, 8] * s[i, 8] * bb
    h = b * b - a * c
    if h < 0:
        return FAR
    t = (-b - np.sqrt(h)) / max(a, 1e-12)
    y = bo + t * bd
    if 0 < y < bb and t > 1e-4:
        k = y / bb
        n[0], n[1], n[2] = (px + t * dx - k * bx) / s[i, 8], (py + t * dy - k * by) / s[i, 8], (pz + t * dz - k * bz) / s[i, 8]
        return t
    if y <= 0:
        return hit_ball(s[i, 2], s[i, 3], s[i, 4], s[i, 8], ox, oy, oz, dx, dy, dz, False, n)
    return hit_ball(s[i, 5], s[i, 6], s[i, 7], s[i, 8], ox, oy, oz, dx, dy, dz, False, n)


@nb.njit(**JIT)
def hit_solid(s, i, ox, oy, oz, dx, dy, dz, n):
    kind = int(s[i, 0])
    if kind == BOX:
        return hit_box(s, i, ox, oy, oz, dx, dy, dz, n)
    if kind == CYLINDER:
        return hit_cylinder(s, i, ox, oy, oz, dx, dy, dz, n)
    if kind == CAPSULE:
        return hit_capsule(s, i, ox, oy, oz, dx, dy, dz, n)
    return hit_ball(s[i, 2], s[i, 3], s[i, 4], s[i, 8], ox, oy, oz, dx, dy, dz, kind == DOME, n)


@nb.njit(**JIT)
def land_height(land, x, y):
    m = land.shape[0]
    u, v = (x / TERRAIN_SIZE_M + 0.5) * m, (y / TERRAIN_SIZE_M + 0.5) * m
    fu, fv = np.floor(u), np.floor(v)
    wrap = m - 1  # m is a power of two
    i, j = int(fu) & wrap, int(fv) & wrap
    a, b = u - fu, v - fv
    i1, j1 = (i + 1) & wrap, (j + 1) & wrap
    return (1 - b) * ((1 - a) * land[j, i] + a * land[j, i1]) + b * ((1 - a) * land[j1, i] + a * land[j1, i1])


@nb.njit(**JIT)
def hit_land(land, ox, oy, oz, dx, dy, dz, limit):
    t, last = 0.02, 0.0
    while t < limit:
        gap = oz + t * dz - land_height(land, ox + t * dx, oy + t * dy)
        if gap < 0:
            for _ in range(12):
                mid = 0.5 * (last + t)
                if oz + mid * dz < land_height(land, ox + mid * dx, oy + mid * dy):
                    t = mid
                else:
                    last = mid
            return t
        last = t
        t += max(0.06 + 0.010 * t, 0.8 * gap)
        if dz > 0 and oz + t * dz > 32:
            return FAR
    return FAR


@nb.njit(**JIT)
def nearest(solids, land, ox, oy, oz, dx, dy, dz, limit, shadow, n, m):
    """Distance and number of what the ray meets first (-1 the ground, -2 nothing); n becomes its normal, m is scratch."""
    best, which = limit, -2
    for i in range(len(solids)):
        x, y, z = solids[i, 9] - ox, solids[i, 10] - oy, solids[i, 11] - oz
        along = x * dx + y * dy + z * dz
        if x * x + y * y + z * z - along * along > solids[i, 12]:
            continue
        t = hit_solid(solids, i, ox, oy, oz, dx, dy, dz, m)
        if t < best:
            best, which = t, i
            n[0], n[1], n[2] = m[0], m[1], m[2]
            if shadow:
                return best, which
    t = hit_land(land, ox, oy, oz, dx, dy, dz, min(best, 12.0 if shadow else limit))
    if t < best:
        best, which = t, -1
        x, y, e = ox + t * dx, oy + t * dy, 0.06
        n[0] = land_height(land, x - e, y) - land_height(land, x + e, y)
        n[1] = land_height(land, x, y - e) - land_height(land, x, y + e)
        n[2] = 2 * e
        length = np.sqrt(n[0] ** 2 + n[1] ** 2 + n[2] ** 2)
        n[0], n[1], n[2] = n[0] / length, n[1] / length, n[2] / length
    return best, which


@nb.njit(**JIT)
def sky_colour(dx, dy, dz, sun):
    up = max(dz, 0.0)
    glow = max(dx * sun[0] + dy * sun[1] + dz * sun[2], 0.0)
    u, v = dx / (up + 0.12), dy / (up + 0.12)
    cloud = detail(u * 0.9, v * 0.9, 0.0, 1.0, 0.0, 6) + 0.18
    cover = min(max(cloud * 2.2, 0.0), 1.0) * min(up * 6, 1.0) * 0.8
    haze = np.exp(-up * 5)
    r, g, b = 0.16 + 0.42 * haze, 0.30 + 0.40 * haze, 0.58 + 0.28 * haze
    s = 0.25 * glow**24
    white = 0.95 - 0.25 * cloud
    # what the sun adds to the sky round it is of its own colour, and so is the light side of clouds
    s0, s1, s2 = s * sun[3] / 1.62, 0.9 * s * sun[4] / 1.52, 0.7 * s * sun[5] / 1.32
    r, g, b = (r * (1 - cover) + white * cover) * sun[6], (g * (1 - cover) + white * cover) * sun[7], (b * (1 - cover) + white * cover) * sun[8]
    return r + s0 * (1 - cover), g + s1 * (1 - cover), b + s2 * (1 - cover)


@nb.njit(**JIT)
def joints(u, v, width_u, width_v, gap):
    """Courses of slabs: (distance into a joint 0..1, a number of its own for each slab)."""
    row = np.floor(v / width_v)
    shift = hash3(int(row), 11, 5) * width_u
    column = np.floor((u + shift) / width_u)
    a, b = (u + shift) - column * width_u, v - row * width_v
    edge = min(min(a, width_u - a), min(b, width_v - b))
    return min(max(1 - edge / gap, 0.0), 1.0), hash3(int(column), int(row), 3)


@nb.njit(**JIT)
def albedo(material, x, y, z, n, size):
    d = detail(x, y, z, 1.3, size, 5)
    fine = detail(x + 31, y, z, 14.0, size, 4)
    if material == FLAGS and n[2] > 0.5:
        joint, own = joints(x, y, 0.95, 0.72, 0.014 + size * 0.5)
        k = (0.36 + 0.16 * (own - 0.5) + 0.20 * d + 0.20 * fine) * (1 - 0.5 * joint)
        stain = max(detail(x, y, 5.0, 0.35, size, 4) - 0.1, 0.0)
        return k * (1 - 0.5 * stain), k * (0.97 - 0.5 * stain), k * (0.90 - 0.6 * stain)
    if material in (STONE, FLAGS):
        u = x + y if abs(n[2]) < 0.5 else x
        v = z if abs(n[2]) < 0.5 else y
        joint, own = joints(u, v, 0.48, 0.22, 0.018 + size * 0.5)
        k = (0.32 + 0.2 * (own - 0.5) + 0.22 * d + 0.2 * fine) * (1 - 0.55 * joint)
        return k, k * 0.93, k * 0.82
    if material == METAL:
        seam = 1.0 if abs(np.sin(9 * np.arctan2(n[1], n[0]))) < 0.03 + 2 * size else 0.0
        slit = 1.0 if abs(n[0] + 0.35) < 0.09 and n[1] < 0.35 else 0.0
        k = (0.62 + 0.07 * d + 0.05 * fine - 0.2 * seam) * (1 - 0.85 * slit)
        return k * 0.97, k, k * 1.03
    if material == WOOD:
        grain = detail(x * 0.6, y * 0.6, z * 9, 2.0, size * 4, 5)
        k = 0.24 + 0.12 * grain + 0.10 * fine
        return k * 1.15, k * 0.85, k * 0.58
    if material == CLOTH:
        k = 0.16 + 0.05 * d + 0.04 * fine
        return k * 1.5, k * 0.55, k * 0.4
    if material == TROUSERS:
        k = 0.09 + 0.03 * d + 0.02 * fine
        return k * 0.7, k * 0.85, k * 1.3
    if material == SKIN:
        return 0.46, 0.30, 0.22
    if material == DARK:
        k = 0.045 + 0.015 * d + 0.012 * fine
        return k, k, k * 1.1
    if material == SLATE:
        joint, own = joints(x, z, 0.6, 0.3, 0.012 + size * 0.5)
        k = (0.055 + 0.02 * (own - 0.5) + 0.03 * d + 0.02 * fine) * (1 - 0.4 * joint)
        return k, k * 1.02, k * 1.08
    if material == LEAF:
        k = 0.15 + 0.06 * d + 0.06 * fine
        return k * 0.75, k * 1.25, k * 0.35
    if material == PAINT:
        k = 0.30 + 0.04 * d
        return k * 0.5, k * 0.85, k * 1.2
    if material == RUBBER:
        k = 0.03 + 0.01 * fine
        return k, k, k
    wild = detail(x, y, z * 0.3, 0.5, size * 0.7, 8)
    k = 0.20 + 0.24 * wild + 0.16 * fine
    dry = min(max(0.5 + 0.9 * d + 0.4 * wild, 0.0), 1.0)
    if n[2] < 0.80:
        return k * 1.15, k * 1.05, k * 0.92
    return k * (0.62 + 0.75 * dry), k * (0.86 + 0.28 * dry), k * (0.38 + 0.25 * dry)


@nb.njit(**JIT)
def lake(x, y, water, dx, dy, dz, size, sun, out):
    """Moving water: a drift carries what floats on it, and ripples that change with `unrest` break the mirrored sky."""
    time_s, unrest = water[1], water[2]
    u, v = x - water[3] * time_s, y - water[4] * time_s
    a = detail(u, v, 0.8 * unrest * time_s, 1.1, size, 5)
    b = detail(u - 0.7 * unrest * time_s, v + 0.7 * unrest * time_s, 3.0 + 0.6 * unrest * time_s, 1.7, size, 5)
    r, g, b_ = sky_colour(dx + 0.25 * a, dy + 0.25 * b, max(-dz + 0.1 * (a + b), 0.02), sun)
    foam = 0.25 * max(detail(u, v, 9.0, 0.7, size, 7) + 0.1, 0.0)
    mirror = 0.12 + 0.5 * (1 + dz) ** 3 + 0.25 * (a + b)
    out[0], out[1], out[2] = 0.04 + mirror * r + foam, 0.07 + mirror * g + foam, 0.08 + mirror * b_ + foam


@nb.njit(**JIT)
def radiance(solids, fixed, land, ox, oy, oz, dx, dy, dz, sun, pixel_angle, water, out, n, m, scratch):
    """sun (9,): direction to it, its light and a factor on that of the sky, red, green, blue. water (5,): height of a lake in m (far below everything for none), the time in s, its unrest (1 lively, 0 only drifts), and the
    drift in m/s."""
    t, which = nearest(solids, land, ox, oy, oz, dx, dy, dz, 220.0, False, n, scratch)
    if dz < 0 and 0 < (water[0] - oz) / dz < t:
        t = (water[0] - oz) / dz
        lake(ox + t * dx, oy + t * dy, water, dx, dy, dz, t * pixel_angle / np.sqrt(max(-dz, 0.1)), sun, out)
        return
    if which == -2:
        out[0], out[1], out[2] = sky_colour(dx, dy, dz, sun)
        return
    x, y, z = ox + t * dx, oy + t * dy, oz + t * dz
    material = GRASS if which < 0 else int(solids[which, 1])
    slant = max(-(n[0] * dx + n[1] * dy + n[2] * dz), 0.15)
    size = t * pixel_angle / np.sqrt(slant)
    if material == WATER and n[2] > 0.5:
        tilt = 0.02 * detail(x, y, 1.0, 4.0, size, 3)
        r, g, b = sky_colour(dx + tilt, dy, -dz, sun)
        out[0], out[1], out[2] = 0.03 + 0.35 * r, 0.05 + 0.35 * g, 0.06 + 0.37 * b
    else:
        if which >= fixed:  # what moves takes its texture along
            r, g, b = albedo(material, x - solids[which, 2], y - solids[which, 3], z - solids[which, 4], n, size)
        else:
            r, g, b = albedo(material, x, y, z, n, size)
        bump = 0.0
        if material != METAL and material != SKIN:
            bump = 0.35 * detail(x, y + 9, z, 22.0, size, 2)
        lit = n[0] * sun[0] + n[1] * sun[1] + n[2] * sun[2]
        if lit > 0:
            _, blocker = nearest(solids, land, x + 2e-3 * n[0], y + 2e-3 * n[1], z + 2e-3 * n[2], sun[0], sun[1], sun[2], 90.0, True, m, scratch)
            lit = 0.0 if blocker != -2 else lit
        lit = max(lit, 0.0) * (1 + bump)
        sky = 0.60 + 0.40 * n[2]
        out[0] = r * (sun[3] * lit + 0.34 * sun[6] * sky)
        out[1] = g * (sun[4] * lit + 0.40 * sun[7] * sky)
        out[2] = b * (sun[5] * lit + 0.50 * sun[8] * sky)
    haze = 1 - np.exp(-t * 0.0035)
    out[0] += haze * (0.52 * sun[6] - out[0])
    out[1] += haze * (0.60 * sun[7] - out[1])
    out[2] += haze * (0.72 * sun[8] - out[2])


@nb.njit(parallel=True, **JIT)
def render(width, height, focal, k1, k2, poses, centres, solids, fixed, land, sun, samples, frame, readout=0.0, waters=NO_WATER):
    """(height, width, 3) linear light. poses (p, 3, 3) and centres (p, 3) spread over the time from the first row's opening to
    the last row's closing; solids (p, s, 13). readout: share of that time by which the last row opens after the first.
    waters (p or 1, 5): as in `radiance`."""
    picture = np.zeros((height, width, 3), np.float32)
    count = len(poses)
    for row in nb.prange(height):
        out, n, m, scratch = np.zeros(3), np.zeros(3), np.zeros(3), np.zeros(3)
        for column in range(width):
            red, green, blue = 0.0, 0.0, 0.0
            for s in range(samples):
                a, b = hash3(column, row, frame * 64 + s), hash3(column + 5000, row, frame * 64 + s)
                u = (column + ((s % 2) + a) / 2 - 0.5 - (width - 1) / 2) / focal
                v = (row + ((s // 2) * 2.0 / samples + b * 2.0 / samples) - 0.5 - (height - 1) / 2) / focal
                x, y = u, v
                for _ in range(5):
                    q = x * x + y * y
                    g = 1 + q * (k1 + k2 * q)
                    x, y = u / g, v / g
                p = int((readout * row / height + (1 - readout) * (s + hash3(column + 9000, row, frame * 64 + s)) / samples) * count)
                r = poses[p]
                dx, dy, dz = r[0, 0] * x + r[1, 0] * y + r[2, 0], r[0, 1] * x + r[1, 1] * y + r[2, 1], r[0, 2] * x + r[1, 2] * y + r[2, 2]
                length = np.sqrt(dx * dx + dy * dy + dz * dz)
                c = centres[p]
                radiance(
                    solids[p],
                    fixed,
                    land,
                    c[0],
                    c[1],
                    c[2],
                    dx / length,
                    dy / length,
                    dz / length,
                    sun,
                    1 / focal,
                    waters[min(p, len(waters) - 1)],
                    out,
                    n,
                    m,
                    scratch,
                )
                red, green, blue = red + min(out[0], 1.4), green + min(out[1], 1.4), blue + min(out[2], 1.4)
            picture[row, column, 0], picture[row, column, 1], picture[row, column, 2] = red / samples, green / samples, blue / samples
    return picture


@nb.njit(parallel=True, **JIT)
def meet(solids, fixed, land, origin, directions, level):
    """(n,) distance along each direction (n, 3) to what stands still; FAR where that is nothing, the visitor, or the lake."""
    result = np.full(len(directions), FAR)
    for k in nb.prange(len(directions)):
        n, m = np.zeros(3), np.zeros(3)
        d = directions[k]
        t, which = nearest(solids, land, origin[0], origin[1], origin[2], d[0], d[1], d[2], 220.0, False, n, m)
        wet = d[2] < 0 and 0 < (level - origin[2]) / d[2] < t
        if which != -2 and which < fixed and not wet:
            result[k] = t
    return result
