"""The light that comes to a place along a ray: of suns, sky and surroundings, of the ground as it was filmed, and of ours that it meets."""

import math
from typing import NamedTuple

import numpy as np

from ..basics.jit import inlined, part
from ..light.surroundings import BOUNCE
from .energy import split_sum
from .facets import gloss_lobe
from .geometry import CLEAR, DRAWN, GLOW, METAL, MIRRORED, OPAQUE, PLACE, ROUGHNESS, TEXTURE
from .looks import patterned, surface_at
from .meeting import FAR, blocked, hit, nearest, off, share_open, surface_of
from .near import BEFORE, asked, from_near
from .sampling import MIRROR, SKY, SUN, SUNS
from .seen import Seen, seen_at
from .sphere import Sphere, around_blurred, around_matt
from .vectors import along, around, dot, in_cone, smoothstep

SPREAD = 0.7  # times GGX's width: of the part of the ground that one facet's ray stands for, of its distance
DULL = 0.8  # roughness; no less rough are mirrors to a matt place: what they throw on it is found by too few rays to be a pattern of light
MOST_GLEAM = 1.0  # of a sun's light on a mirror, that a matt place sees of it along one ray: what is seen at a small angle would be single white px
SHINY = 0.3  # roughness; what is less rough, metal or coated shows what stands beside it


class Lights(NamedTuple):
    """suns (n, 7): direction, colour, cosine of half the width. sky, bounce (3,): light of the sky, and of the place beneath.

    near, tree, sent: lamps that are near, in the axes of the rays, as `near.NearLamps` has them. place (3,): light that what stands for the place sends
    on. open_sky: brightness of the light of sky and surroundings on level ground. sphere: the surroundings. seen: what the plate shows of the ground.
    """

    suns: np.ndarray
    sky: np.ndarray
    bounce: np.ndarray
    near: np.ndarray
    tree: np.ndarray
    sent: np.ndarray
    place: np.ndarray
    open_sky: float
    sphere: Sphere
    seen: Seen


@inlined
def to_sun(sun, s, sample):
    """A direction to the disc of sun number s."""
    k = SUN + 3 * (s % SUNS)
    return in_cone((sun[0], sun[1], sun[2]), sun[6], sample[k], sample[k + 1], sample[k + 2])


@inlined
def with_and_without(things, ray, words, address, start, d, at):
    """Shares of light that come along d with our things there and without them."""
    seen = share_open(things, ray, words, address, start, d, at, OPAQUE | PLACE)
    # only where the first is hidden does the second need a ray of its own
    return seen, 1.0 if seen > 0 or not (things.place and blocked(things, ray, words, address, start, d, at, PLACE)) else 0.0


@inlined
def from_even(lights, m, roughness):
    """Light (3) about direction m, as a rough mirror sees it, of sky and of what lies beneath."""
    edge = 0.04 + 0.7 * roughness
    over = smoothstep(-edge, edge, m[2])
    shine = 1.35 - 0.5 * smoothstep(0.0, 0.8, m[2])
    return (
        lights.bounce[0] + over * (shine * lights.sky[0] - lights.bounce[0]),
        lights.bounce[1] + over * (shine * lights.sky[1] - lights.bounce[1]),
        lights.bounce[2] + over * (shine * lights.sky[2] - lights.bounce[2]),
    )


@inlined
def from_far(lights, m, roughness):
    """The same with what is all around."""
    even = from_even(lights, m, roughness)
    if not lights.sphere.there:
        return even
    x, y, z = around_blurred(lights.sphere, m, roughness)
    return (even[0] + x, even[1] + y, even[2] + z)


@inlined
def ground_seen(things, lights, p, d, roughness):
    """How surely, 0 to 1, and in which light (3) the plate shows the level ground that a ray from p along d comes to."""
    if not lights.seen.there or not things.levelled or d[2] >= -1e-4:
        return 0.0, (0.0, 0.0, 0.0)
    t = (things.level - p[2]) / d[2]
    if t <= 0:
        return 0.0, (0.0, 0.0, 0.0)
    return seen_at(lights.seen, along(p, d, t), SPREAD * t * roughness * roughness)


@part
def lamp_on(things, lights, ray, words, address, p, start, n, at, sample, which):
    """Light (3) of a near lamp on a place with normal n, as `near.from_near` gives it, its direction, and the cosine to it times the share of it that nothing
    keeps away."""
    light, d, far, _ = from_near(lights, which, p, n, sample)
    towards = dot(n, d)
    if towards <= 0 or light[0] + light[1] + light[2] <= 0:
        return light, d, 0.0
    return light, d, towards * share_open(things, ray, words, address, start, d, at, OPAQUE | PLACE, far * BEFORE)


@part
def shade_of_ground(things, lights, ray, words, address, p, at, sample):
    """Light (3) on a place of the level ground with our things there, over that without them: what a mirror or glass shows of the ground is as the plate
    has it, on which our shadows do not lie yet."""
    up = (0.0, 0.0, 1.0)
    start = off(p, up, up)
    x, y, z = lights.sky[0], lights.sky[1], lights.sky[2]
    if lights.sphere.there:
        round_ = around_matt(lights.sphere, up)
        x, y, z = x + round_[0], y + round_[1], z + round_[2]
    seen, before = with_and_without(things, ray, words, address, start, around(up, sample[SKY], sample[SKY + 1], sample[SKY + 2]), at)
    lit, bare = (seen * x, seen * y, seen * z), (before * x, before * y, before * z)
    for s in range(lights.suns.shape[0]):
        sun = lights.suns[s]
        if sun[2] > 0:
            seen, before = with_and_without(things, ray, words, address, start, to_sun(sun, s, sample), at)
            k = sun[2] * seen
            lit = (lit[0] + k * sun[3], lit[1] + k * sun[4], lit[2] + k * sun[5])
            k = sun[2] * before
            bare = (bare[0] + k * sun[3], bare[1] + k * sun[4], bare[2] + k * sun[5])
    for which in range(asked(lights)):
        light, _, k = lamp_on(things, lights, ray, words, address, p, start, up, at, sample, which)
        lit = (lit[0] + k * light[0], lit[1] + k * light[1], lit[2] + k * light[2])
    return (
        lit[0] / bare[0] if bare[0] > 1e-6 else 1.0,
        lit[1] / bare[1] if bare[1] > 1e-6 else 1.0,
        lit[2] / bare[2] if bare[2] > 1e-6 else 1.0,
    )


@inlined
def _from_ground(things, lights, ray, words, address, p, d, at):
    """Light (3) of what lies beneath p along d, less that of the suns which ours or the place keep from the level ground there."""
    x, y, z = lights.bounce[0], lights.bounce[1], lights.bounce[2]
    if things.levelled and d[2] < -1e-4 and things.level < p[2]:
        ground = along(p, d, (things.level - p[2]) / d[2])
        for s in range(lights.suns.shape[0]):
            sun = lights.suns[s]
            if sun[2] > 0 and blocked(things, ray, words, address, ground, (sun[0], sun[1], sun[2]), at, OPAQUE | PLACE):
                k = BOUNCE * sun[2]
                x, y, z = x - k * sun[3], y - k * sun[4], z - k * sun[5]
    # there are suns that the light of the place was never told of
    return max(x, BOUNCE * lights.sky[0]), max(y, BOUNCE * lights.sky[1]), max(z, BOUNCE * lights.sky[2])


@part
def sent_back(things, lights, ray, words, address, o, d, at, spread, sample, matt):
    """Light (3) that what the last ray met, from o along d, sends back to where the ray began: of suns, lamps and all that is far, not of a second neighbour.
    spread: roughness of the mirror, which sees the place the less sharp the farther it is. matt: a matt place asks: it has the light of what glows from the
    lamps that stand for that, and of what is far it gets here what comes past a second neighbour."""
    k, p, n, face, start, own, wide = hit(things, ray, words, at)
    number = things.number[k]
    if not number[DRAWN]:
        even = (lights.place[0], lights.place[1], lights.place[2])
        if not lights.seen.there:
            return even
        away = math.sqrt((p[0] - o[0]) ** 2 + (p[1] - o[1]) ** 2 + (p[2] - o[2]) ** 2)
        sure, light = seen_at(lights.seen, p, SPREAD * away * spread * spread)
        return (even[0] + sure * (light[0] - even[0]), even[1] + sure * (light[1] - even[1]), even[2] + sure * (light[2] - even[2]))
    look = things.value[surface_of(things, words)]
    if dot(face, d) > 0:
        n, face = (-n[0], -n[1], -n[2]), (-face[0], -face[1], -face[2])
    base, alpha = surface_at(things, number, look, own, FAR, 1.0)
    roughness, metal, glow = look[ROUGHNESS], look[METAL], look[GLOW]
    if look[TEXTURE] > 0:
        base, roughness, n = patterned(things, number, look, base, own, n, 0.01)
    v = (-d[0], -d[1], -d[2])
    nv = max(dot(n, v), 1e-3)
    begin = off(start, face, face)
    up, open_ = 0.5 + 0.5 * n[2], 1.0
    even = (
        up * lights.sky[0] + (1.0 - up) * lights.bounce[0],
        up * lights.sky[1] + (1.0 - up) * lights.bounce[1],
        up * lights.sky[2] + (1.0 - up) * lights.bounce[2],
    )
    if matt:
        glow, r, angle = 0.0, math.sqrt(sample[MIRROR]), 2 * math.pi * sample[MIRROR + 1]
        to = around(n, r * math.cos(angle), r * math.sin(angle), math.sqrt(max(1.0 - r * r, 0.0)))
        if blocked(things, ray, words, address, begin, to, at, OPAQUE):
            open_ = 0.0
        # what is of the place sends as much as the ground does
        if to[2] > 0 and not (things.place and open_ > 0 and blocked(things, ray, words, address, begin, to, at, PLACE)):
            even = (lights.sky[0], lights.sky[1], lights.sky[2])
        else:
            even = _from_ground(things, lights, ray, words, address, begin, to, at)
    x, y, z = glow * base[0], glow * base[1], glow * base[2]
    f0 = (0.04 + metal * (base[0] - 0.04), 0.04 + metal * (base[1] - 0.04), 0.04 + metal * (base[2] - 0.04))
    suns = lights.suns.shape[0]
    for s in range(suns + asked(lights)):
        if s < suns:
            sun = lights.suns[s]
            light, to = (sun[3], sun[4], sun[5]), to_sun(sun, s, sample)
            k = dot(n, to)
            if k > 0 and blocked(things, ray, words, address, begin, to, at, OPAQUE | PLACE):
                k = 0.0
        else:
            light, to, k = lamp_on(things, lights, ray, words, address, start, begin, n, at, sample, s - suns)
        if k > 0:
            # a sharp gleam of a lamp in a mirror is more noise than light. Source: A. Kaplanyan, C. Dachsbacher, Path Space
            # Regularization, EUROGRAPHICS 2013
            nl = dot(n, to)
            gloss, fresnel = gloss_lobe(n, v, to, nv, nl, max(roughness, DULL if matt else SHINY))
            if matt:
                gloss = min(gloss, MOST_GLEAM / nl)
            f = (f0[0] + (1.0 - f0[0]) * fresnel, f0[1] + (1.0 - f0[1]) * fresnel, f0[2] + (1.0 - f0[2]) * fresnel)
            x += k * light[0] * (base[0] * (1.0 - metal) * (1.0 - f[0]) + f[0] * gloss)
            y += k * light[1] * (base[1] * (1.0 - metal) * (1.0 - f[1]) + f[1] * gloss)
            z += k * light[2] * (base[2] * (1.0 - metal) * (1.0 - f[2]) + f[2] * gloss)
    round_ = (0.0, 0.0, 0.0)
    if lights.sphere.there:
        round_ = around_matt(lights.sphere, n)
    turned = 2 * dot(n, v)
    far = from_far(lights, (turned * n[0] - v[0], turned * n[1] - v[1], turned * n[2] - v[2]), roughness)
    scale, offset, lost = split_sum(nv, roughness, metal)
    soft = open_ * (1.0 - metal) * (1.0 - look[CLEAR])
    shine = (open_ * (f0[0] * scale + offset), open_ * (f0[1] * scale + offset), open_ * (f0[2] * scale + offset))
    x += base[0] * soft * (even[0] + round_[0]) + far[0] * shine[0] * (1.0 + f0[0] * lost)
    y += base[1] * soft * (even[1] + round_[1]) + far[1] * shine[1] * (1.0 + f0[1] * lost)
    z += base[2] * soft * (even[2] + round_[2]) + far[2] * shine[2] * (1.0 + f0[2] * lost)
    if look[CLEAR] > 0:
        behind = from_far(lights, d, roughness)
        x, y, z = x + look[CLEAR] * base[0] * behind[0], y + look[CLEAR] * base[1] * behind[1], z + look[CLEAR] * base[2] * behind[2]
    if alpha < 1:
        gone = from_far(lights, d, 0.0)
        return (gone[0] + alpha * (x - gone[0]), gone[1] + alpha * (y - gone[1]), gone[2] + alpha * (z - gone[2]))
    return (x, y, z)


@part
def from_ours(things, lights, ray, words, address, o, d, at, sample):
    """Light (3) that what of ours a matt place sees along d sends back to it; nothing where that is of the place."""
    if not nearest(things, ray, words, address, o, d, at, MIRRORED) or not things.number[words[19], DRAWN]:
        return (0.0, 0.0, 0.0)
    return sent_back(things, lights, ray, words, address, o, d, at, 1.0, sample, True)
