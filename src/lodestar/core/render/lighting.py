"""The light on a place: of each sun and of the sky, on what receives it and on ours; and where mirrors send a ray.

A new lamp is asked here, a new property of a surface is used here.
"""

import math
from typing import NamedTuple

import numpy as np

from ..basics.jit import called, inlined
from ..light.surroundings import BOUNCE
from .energy import LEAST_WIDTH, split_sum
from .geometry import (
    CLEAR,
    COAT,
    DRAWN,
    GLOW,
    METAL,
    MIRRORED,
    OPAQUE,
    PLACE,
    ROUGHNESS,
    TEXTURE,
)
from .looks import patterned, surface_at
from .meeting import FAR, blocked, hit, may_meet, nearest, off, share_open, surface_of
from .near import asked, from_near
from .sampling import AROUND, MIRROR, SKY, SUN, SUNS
from .seen import Seen, seen_at
from .sphere import Sphere, around_blurred, around_in, around_matt, chosen, density_of, guide_of
from .vectors import along, around, bright, dot, in_cone, normalised, smoothstep

WATER_INDEX = 1.333
COAT_ROUGHNESS, COAT_F0 = 0.06, 0.04  # of a clear coat: polished, of an index of 1.5
WIDE_GLOSS = 0.3  # roughness
BEFORE = 0.999  # of the way to a lamp, beyond which it is the lamp itself
SPREAD = 0.7  # times GGX's width: of the part of the ground that one facet's ray stands for, of its distance
MOST_HIDDEN = 1.5  # times the mean of all facets
NEAR_FACETS = 0.85  # of all, by how far they lie off
DULL = 0.6  # roughness; no less rough are mirrors to a matt place: what they throw on it is found by too few rays to be a pattern of light
SHINY = 0.3  # roughness; what is less rough, metal or coated shows what stands beside it
GLASS_INDEX, THROUGH = 1.5, 2  # of windows; number of the layer that is asked for what lies behind
FROSTED = 0.1  # roughness of glass, from which what stands behind it is blurred
BEYOND = 1e3  # sizes of our things: so far away lies what no ray comes to
MIRROR_WIDTH = 0.35  # GGX's width for a roughness of 1, of what stands in for water or a polished floor: half of its facets lie within


class Lights(NamedTuple):
    """suns (n, 7): direction, colour, cosine of half the width. sky, bounce (3,): light of the sky, and of the place beneath.

    near (m, NEAR): lamps that are near, in the axes of the rays: columns of `near`. sent (k, SENT): triangles of those that glow. place (3,): light
    that what stands for the place sends on. open_sky: brightness of the light of sky and surroundings on level ground. sphere: the surroundings. seen: what the
    plate shows of the ground.
    """

    suns: np.ndarray
    sky: np.ndarray
    bounce: np.ndarray
    near: np.ndarray
    sent: np.ndarray
    place: np.ndarray
    open_sky: float
    sphere: Sphere
    seen: Seen


@inlined
def _to_sun(sun, s, sample):
    """A direction to the disc of sun number s."""
    k = SUN + 3 * (s % SUNS)
    return in_cone((sun[0], sun[1], sun[2]), sun[6], sample[k], sample[k + 1], sample[k + 2])


@inlined
def _with_and_without(things, ray, words, address, start, d, at):
    """Shares of light that come along d with our things there and without them."""
    seen = share_open(things, ray, words, address, start, d, at, OPAQUE | PLACE)
    # only where the first is hidden does the second need a ray of its own
    return seen, 1.0 if seen > 0 or not (things.place and blocked(things, ray, words, address, start, d, at, PLACE)) else 0.0


@inlined
def _all_round(sphere, n, d, sample):
    """Of a matt white place with normal n: light (3) that it sends back of all around where nothing is before that; the part (3) of it that is told
    by direction d, chosen by the cosine; a direction chosen by the light, and the part (3) told by that.

    Source: the balance heuristic, E. Veach, L. Guibas, Optimally Combining Sampling Techniques, SIGGRAPH 1995.
    """
    guide = guide_of(sphere, n)
    cosine = max(dot(n, d), 0.0) / math.pi
    k = cosine / max(cosine + density_of(sphere, guide, d), 1e-12)
    r, g, b = around_in(sphere, d)
    e = chosen(sphere, guide, sample[AROUND], sample[AROUND + 1])
    cosine = dot(n, e) / math.pi
    second = (0.0, 0.0, 0.0)
    if cosine > 0:
        j = cosine / max(cosine + density_of(sphere, guide, e), 1e-12)
        x, y, z = around_in(sphere, e)
        second = (j * x, j * y, j * z)
    return around_matt(sphere, n), (k * r, k * g, k * b), e, second


@inlined
def received(things, lights, ray, words, address, p, n, at, sample, share, lit, bare, noise, round_):
    """Add the light on a place that receives it, with our things to `lit` and without them to `bare` (3,), `share` of it; and to `round_` (12,) what
    tells that of all around: what an open place gets, what its samples told, and of that what came with and without our things."""
    start = off(p, n, n)
    for s in range(lights.suns.shape[0]):
        sun = lights.suns[s]
        d = _to_sun(sun, s, sample)
        towards = dot(n, d)
        if towards <= 0:
            continue
        seen, before = _with_and_without(things, ray, words, address, start, d, at)
        for c in range(3):
            lit[c] += share * towards * seen * sun[3 + c]
            bare[c] += share * towards * before * sun[3 + c]
        if seen < before:
            noise[1] = 1.0
    for which in range(asked(lights)):
        # of lamps that we add there is none without our things
        light, d, far, _ = from_near(lights, which, p, n, sample)
        if light[0] + light[1] + light[2] > 0:
            noise[1] = 1.0
            seen = share_open(things, ray, words, address, start, d, at, OPAQUE | PLACE, far * BEFORE)
            towards = dot(n, d) * share * seen
            for c in range(3):
                lit[c] += towards * light[c]
    d = around(n, sample[SKY], sample[SKY + 1], sample[SKY + 2])
    seen, before = _with_and_without(things, ray, words, address, start, d, at)
    up = 0.5 + 0.5 * n[2]
    if seen < before:
        noise[1] = 1.0
        noise[2] += share * (before - seen)
        light = _from_ours(things, lights, ray, words, address, start, d, at, sample)
        for c in range(3):
            lit[c] += share * (before - seen) * light[c]
    for c in range(3):
        # what an open place would receive is known exactly; the sample tells only what is taken from it
        whole = up * lights.sky[c] + (1.0 - up) * lights.bounce[c]
        along = lights.sky[c] if d[2] > 0 else lights.bounce[c]
        lit[c] += share * (whole - (1.0 - seen) * along)
        bare[c] += share * (whole - (1.0 - before) * along)
    if lights.sphere.there:
        # of what is all around one direction is chosen by the cosine, one by where light comes from
        whole3, first, e, second = _all_round(lights.sphere, n, d, sample)
        with_e, bare_e = 0.0, 0.0
        if second[0] + second[1] + second[2] > 0:
            with_e, bare_e = _with_and_without(things, ray, words, address, start, e, at)
            if with_e < bare_e:
                noise[1] = 1.0
                noise[2] += 0.5 * share * (bare_e - with_e)
        for c in range(3):
            round_[c] += share * whole3[c]
            round_[3 + c] += share * (first[c] + second[c])
            round_[6 + c] += share * (seen * first[c] + with_e * second[c])
            round_[9 + c] += share * (before * first[c] + bare_e * second[c])


@inlined
def _gloss(n, v, d, nv, nl, roughness):
    """GGX's lobe for light from d to v, and Schlick's factor of Fresnel's."""
    a = max(roughness * roughness, LEAST_WIDTH)
    a2 = a * a
    h = normalised((d[0] + v[0], d[1] + v[1], d[2] + v[2]))
    nh, vh = min(max(dot(n, h), 0.0), 1.0), min(max(dot(v, h), 0.0), 1.0)
    k = nh * nh * (a2 - 1.0) + 1.0
    gloss = a2 / (k * k) * 0.5 / (nl * math.sqrt(nv * nv * (1.0 - a2) + a2) + nv * math.sqrt(nl * nl * (1.0 - a2) + a2) + 1e-6)
    return gloss, (1.0 - vh) ** 5


@inlined
def _add_light(d, nl, of, light, soft, glossy, colour, seen_anyway):
    """Add light (3) from one direction that the surface sends to the eye: what is even to `soft`, gloss to `glossy`, that of the coat to `colour`.
    seen_anyway: it comes from what rays to neighbours find, so that what mirrors it would have it twice."""
    gloss, fresnel = _gloss(of.n, of.v, d, of.nv, nl, of.roughness)
    kept, over = 1.0, 0.0
    if of.coat > 0:
        shine, edge = _gloss(of.n, of.v, d, of.nv, nl, COAT_ROUGHNESS)
        f = of.coat * (COAT_F0 + (1.0 - COAT_F0) * edge)
        # what the coat sends back does not come in, and what comes out passes it again
        kept, over = (1.0 - f) * (1.0 - of.over_coat), 0.0 if seen_anyway else f * shine
    if seen_anyway and of.shiny:
        gloss = 0.0
    for c in range(3):
        f0 = 0.04 + of.metal * (of.base[c] - 0.04)
        f = f0 + (1.0 - f0) * fresnel
        soft[c] += kept * light[c] * of.base[c] * (1.0 - of.metal) * (1.0 - of.clear) * (1.0 - f)
        glossy[c] += light[c] * kept * f * gloss * (1.0 + f0 * of.lost)
        colour[c] += light[c] * over


class Place(NamedTuple):
    """A place of ours that is shaded. p, start: where it is, and from where its rays begin; face, n: normals of the flat piece and of the round
    surface; v: to the eye; nv: cosine to it. base, roughness, metal, coat: how it looks. scale, offset, lost: as of `energy.split_sum`. kept, over_coat:
    what comes through the coat both ways, and what it mirrors. clear: share that is glass. shiny: whether neighbours are asked for; sampled: whether the gloss of
    surroundings is told by samples. share: of the px."""

    p: tuple
    start: tuple
    face: tuple
    n: tuple
    v: tuple
    nv: float
    base: tuple
    roughness: float
    metal: float
    coat: float
    scale: float
    offset: float
    lost: float
    kept: float
    over_coat: float
    shiny: bool
    sampled: bool
    share: float
    clear: float


@inlined
def shaded(things, lights, ray, words, address, p, face, n, v, at, sample, look, roughness, base, share, colour, soft, sky, noise):
    """Add the light that one of ours sends to the eye along v (unit, to the eye): what is even to `soft` (3,) and `sky` (5,), the sun's gloss to `colour`.

    Gloss: B. Walter and others, Microfacet Models for Refraction, EGSR 2007, with the height-correlated masking of E. Heitz, JCGT
    2014; of the surroundings: as in `energy`.
    """
    nv = max(dot(n, v), 1e-3)
    metal, coat, glow = look[METAL], look[COAT], look[GLOW]
    scale, offset, lost = split_sum(nv, roughness, metal)
    kept, over_coat = 1.0, 0.0
    if coat > 0:
        over_coat = coat * (COAT_F0 + (1.0 - COAT_F0) * (1.0 - nv) ** 5)
        kept = (1.0 - over_coat) * (1.0 - over_coat)
    # the tables are of lobes that are looked at along the normal: those of rough metal are told by samples
    sampled, shiny = lights.sphere.there and metal > 0 and roughness >= SHINY, metal > 0 or roughness < SHINY
    start = off(p, face, face)
    of = Place(p, start, face, n, v, nv, base, roughness, metal, coat, scale, offset, lost, kept, over_coat, shiny, sampled, share, look[CLEAR])
    for c in range(3):
        colour[c] += share * glow * base[c]
    _add_lamps(things, lights, ray, words, address, of, at, sample, colour, soft, noise)
    _add_far(things, lights, ray, words, address, of, at, sample, colour, soft, sky, noise)
    _add_neighbours(things, lights, ray, words, address, of, at, sample, colour, soft, noise)


@inlined
def _add_lamps(things, lights, ray, words, address, of, at, sample, colour, soft, noise):
    """Of suns, and of lamps that are near."""
    n, share = of.n, of.share
    for s in range(lights.suns.shape[0]):
        sun = lights.suns[s]
        d = _to_sun(sun, s, sample)
        nl = dot(n, d)
        if nl <= 0:
            continue
        seen = share_open(things, ray, words, address, of.start, d, at, OPAQUE | PLACE)
        if seen < 1:
            noise[0] = 1.0
        if seen <= 0:
            continue
        k = share * seen * nl
        _add_light(d, nl, of, (k * sun[3], k * sun[4], k * sun[5]), soft, colour, colour, False)
    for which in range(asked(lights)):
        light, d, far, seen_anyway = from_near(lights, which, of.p, n, sample)
        if light[0] + light[1] + light[2] > 0:
            noise[0] = 1.0
            seen = share_open(things, ray, words, address, of.start, d, at, OPAQUE | PLACE, far * BEFORE)
            nl = dot(n, d)
            k = share * seen * nl
            if k > 0:
                # wide gloss of lamps that are chosen by chance is filtered like what is even
                glossy = soft if of.roughness > WIDE_GLOSS else colour
                _add_light(d, nl, of, (k * light[0], k * light[1], k * light[2]), soft, glossy, colour, seen_anyway)


@inlined
def _add_far(things, lights, ray, words, address, of, at, sample, colour, soft, sky, noise):
    """Of the sky, of what lies beneath, and of what is all around, as if only the matt part of it could be hidden."""
    n, v, base, metal, share, kept = of.n, of.v, of.base, of.metal, of.share, of.kept
    d = around(n, sample[SKY], sample[SKY + 1], sample[SKY + 2])
    seen = share_open(things, ray, words, address, of.start, d, at, OPAQUE)
    behind = seen > 0 and d[2] > 0 and things.place and blocked(things, ray, words, address, of.start, d, at, PLACE)
    if seen < 1 or behind:
        noise[0] = 1.0
    if seen < 1:
        light = _from_ours(things, lights, ray, words, address, of.start, d, at, sample)
        for c in range(3):
            soft[c] += share * kept * (1.0 - seen) * base[c] * (1.0 - metal) * (1.0 - of.clear) * light[c]
    # how much of the matt part comes through is told by the ratio of two sums: it is never less than nothing, and has no noise where all is open
    way, matt = bright(lights.sky) if d[2] > 0 else bright(lights.bounce), (0.0, 0.0, 0.0)
    through = seen * (bright(lights.bounce) if behind else way)
    if lights.sphere.there:
        matt, first, e, second = _all_round(lights.sphere, n, d, sample)
        way += bright(first)
        through += seen * (min(bright(lights.place), bright(first)) if behind else bright(first))
        if second[0] + second[1] + second[2] > 0:
            seen = share_open(things, ray, words, address, of.start, e, at, OPAQUE)
            behind = seen > 0 and things.place and blocked(things, ray, words, address, of.start, e, at, PLACE)
            if seen < 1 or behind:
                noise[0] = 1.0
            way += bright(second)
            through += seen * (min(bright(lights.place), bright(second)) if behind else bright(second))
            # what the place sends is found by facets
            if of.sampled and seen > 0 and not behind and not (e[2] < 0 and _ground_seen(things, lights, of.start, e, of.roughness)[0] > 0):
                _add_gloss_by_light(lights.sphere, of, e, seen, soft)
    up, turned = 0.5 + 0.5 * n[2], 2 * dot(n, v)
    m = (turned * n[0] - v[0], turned * n[1] - v[1], turned * n[2] - v[2])
    glossy, crisp = _from_even(lights, m, of.roughness) if of.sampled else _from_far(lights, m, of.roughness), (0.0, 0.0, 0.0)
    if of.coat > 0:
        crisp = _from_far(lights, m, COAT_ROUGHNESS)
    for c in range(3):
        f0 = 0.04 + metal * (base[c] - 0.04)
        whole = base[c] * (1.0 - metal) * (1.0 - of.clear) * (up * lights.sky[c] + (1.0 - up) * lights.bounce[c] + matt[c])
        gloss, over = glossy[c] * (f0 * of.scale + of.offset) * (1.0 + f0 * of.lost), of.over_coat * crisp[c]
        if of.shiny or of.coat > 0:
            # what stands before it is asked by rays of its own
            sky[c] += share * kept * (whole + (0.0 if of.shiny else gloss))
            soft[c] += share * (kept * gloss if of.shiny and of.roughness > WIDE_GLOSS else 0.0)
            colour[c] += share * (over + (kept * gloss if of.shiny and of.roughness <= WIDE_GLOSS else 0.0))
        else:
            sky[c] += share * (kept * (whole + gloss) + over)
    sky[3] += share * through
    sky[4] += share * way


@inlined
def _add_gloss_by_light(sphere, of, e, seen, soft):
    """Of a direction that was chosen by how much light comes from it; its part of the balance heuristic."""
    nl = dot(of.n, e)
    lobe, fresnel = _gloss(of.n, of.v, e, of.nv, max(nl, 1e-6), of.roughness)
    among = _density_of_facets(of.n, of.v, e, of.nv, of.roughness) + density_of(sphere, guide_of(sphere, of.n), e)
    light = around_in(sphere, e)
    k = of.share * of.kept * seen * lobe * max(nl, 0.0) / max(math.pi * among, 1e-12)
    for c in range(3):
        f0 = 0.04 + of.metal * (of.base[c] - 0.04)
        soft[c] += k * (f0 + (1.0 - f0) * fresnel) * (1.0 + f0 * of.lost) * light[c]


@inlined
def _add_neighbours(things, lights, ray, words, address, of, at, sample, colour, soft, noise):
    """Of what stands before the coat, and before what lies under it, in place of the far light that would come from there; the gloss of what is all
    around where that is sampled; and of what is seen through glass."""
    n, v = of.n, of.v
    for layer in range(THROUGH if of.clear <= 0 else THROUGH + 1):
        if layer == 0 and of.coat <= 0 or layer == 1 and not of.shiny:
            continue
        wide, by_sample = COAT_ROUGHNESS if layer == 0 else of.roughness, layer == 1 and of.sampled
        # the few facets of a polished surface that lie far off would be single px of something else
        u = sample[MIRROR] * (1.0 if by_sample else NEAR_FACETS)
        d, part = facet_mirrored((-v[0], -v[1], -v[2]), n, max(wide * wide, LEAST_WIDTH), u, sample[MIRROR + 1])
        o = of.start
        meets, passes = False, 1.0
        if layer == THROUGH and wide > FROSTED:
            # of ours each ray meets another place; the plate is blurred as a whole, by a ray straight through
            o, d, passes = _through(things, ray, words, address, of, at, sample, max(wide * wide, LEAST_WIDTH))
            meets = may_meet(things, o, d, MIRRORED) and nearest(things, ray, words, address, o, d, at, MIRRORED)
        if layer == THROUGH and not meets:
            o, d, passes = _through(things, ray, words, address, of, at, sample, 0.0)
        elif layer < THROUGH and (part <= 0 or dot(d, of.face) <= 0):
            continue
        if layer < THROUGH or wide <= FROSTED:
            meets = may_meet(things, o, d, MIRRORED) and nearest(things, ray, words, address, o, d, at, MIRRORED)
        sure, ground = 0.0, (0.0, 0.0, 0.0)
        if lights.seen.there and not meets:
            sure, ground = _ground_seen(things, lights, o, d, wide)
            if sure > 0:
                shade = _shade_of_ground(things, lights, ray, words, address, along(o, d, (things.level - o[2]) / d[2]), at, sample)
                ground = (ground[0] * shade[0], ground[1] * shade[1], ground[2] * shade[2])
            if layer == THROUGH and sure <= 0:
                sure, ground = seen_at(lights.seen, along(o, d, BEYOND), SPREAD * BEYOND * wide * wide)
        if not meets and not by_sample and sure <= 0 and layer < THROUGH:
            continue
        noise[0] = 1.0
        met, gone, weight = (0.0, 0.0, 0.0), (0.0, 0.0, 0.0), 1.0
        if meets:
            met = _sent_back(things, lights, ray, words, address, o, d, at, wide, sample, False)
            gone = _from_even(lights, d, 0.0) if by_sample else _hidden(lights, of, d, wide)
        elif sure > 0 or layer == THROUGH:
            far = _from_far(lights, d, wide if layer == THROUGH else 0.0)
            met = (far[0] + sure * (ground[0] - far[0]), far[1] + sure * (ground[1] - far[1]), far[2] + sure * (ground[2] - far[2]))
            gone = _from_even(lights, d, 0.0) if by_sample else far
        else:
            met = around_in(lights.sphere, d)
            own = _density_of_facets(n, v, d, of.nv, of.roughness)
            weight = own / max(own + density_of(lights.sphere, guide_of(lights.sphere, n), d), 1e-12)
        if layer == THROUGH:
            kept = of.share * of.kept * of.clear * passes
            for c in range(3):
                if wide > WIDE_GLOSS:  # what of it meets ours is told by chance, so both parts are filtered
                    soft[c] += kept * of.base[c] * met[c]
                else:
                    colour[c] += kept * of.base[c] * met[c]
            continue
        fresnel = (1.0 - min(0.5 * math.sqrt(max(2.0 + 2.0 * dot(v, d), 0.0)), 1.0)) ** 5
        for c in range(3):
            f0 = 0.04 + of.metal * (of.base[c] - 0.04)
            gloss = of.kept * (1.0 + f0 * of.lost)
            if by_sample:
                soft[c] += of.share * gloss * (part * weight * (f0 + (1.0 - f0) * fresnel) * met[c] - (f0 * of.scale + of.offset) * gone[c])
            else:
                soft[c] += of.share * (of.over_coat if layer == 0 else gloss * (f0 * of.scale + of.offset)) * (met[c] - gone[c])


@inlined
def _hidden(lights, of, d, roughness):
    """Light (3) of what is far along d that a neighbour hides, at most so much more than the mean that the table gave for all facets: the few facets
    that look at something bright would be single dark px."""
    turned = 2 * dot(of.n, of.v)
    mean = _from_far(lights, (turned * of.n[0] - of.v[0], turned * of.n[1] - of.v[1], turned * of.n[2] - of.v[2]), roughness)
    x, y, z = _from_far(lights, d, 0.0)
    return min(x, MOST_HIDDEN * mean[0]), min(y, MOST_HIDDEN * mean[1]), min(z, MOST_HIDDEN * mean[2])


@inlined
def refracted(d, n, eta):
    """The direction of a ray along d beyond a surface with normal n, which faces it; eta: index before by index behind; along d where all is
    mirrored. Source: Snell's law."""
    cosine = -dot(d, n)
    k = 1.0 - eta * eta * (1.0 - cosine * cosine)
    if k <= 0:
        return d
    a = eta * cosine - math.sqrt(k)
    return normalised((eta * d[0] + a * n[0], eta * d[1] + a * n[1], eta * d[2] + a * n[2]))


@inlined
def _facet(d, n, a, u, v):
    """The normal of one facet of GGX's width a that a ray along d meets on a surface with normal n."""
    x, y, _, m = _facet_seen((-d[0], -d[1], -d[2]), n, a, u, v)
    return (m[0] * x[0] + m[1] * y[0] + m[2] * n[0], m[0] * x[1] + m[1] * y[1] + m[2] * n[1], m[0] * x[2] + m[1] * y[2] + m[2] * n[2])


@inlined
def _passing(cosine):
    """Share of light that a face of glass lets pass, by Schlick's factor of Fresnel's."""
    return (1.0 - COAT_F0) * (1.0 - (1.0 - min(max(cosine, 0.0), 1.0)) ** 5)


@inlined
def _unmasked(d, n, a):
    """Share of what leaves along d that no other facet of GGX's width a stands before."""
    cosine = dot(d, n)
    return 2.0 / (1.0 + math.sqrt(1.0 + a * a * (1.0 / max(cosine * cosine, 1e-6) - 1.0)))


@inlined
def _through(things, ray, words, address, of, at, sample, a):
    """Where a ray from the eye leaves the glass that it went into, and its direction then: bent where it goes in and where it comes out, by facets of GGX's
    width a, and the share of light that both faces let pass; by the surface itself for 0. Source: B. Walter and others, Microfacet Models for Refraction through Rough Surfaces, EGSR 2007."""
    d = (-of.v[0], -of.v[1], -of.v[2])
    n = _facet(d, of.n, a, sample[MIRROR], sample[MIRROR + 1]) if a > 0 else of.n
    passes = _passing(-dot(d, n))
    d = refracted(d, n, 1.0 / GLASS_INDEX)
    if a > 0:
        passes *= _unmasked(d, of.n, a)
    else:
        passes *= passes  # of both faces, which lie alike but at edges
    o = off(off(of.start, of.face, d), of.face, d)  # from a hair before the surface to a hair behind it
    if nearest(things, ray, words, address, o, d, at, MIRRORED):
        k, p, n, face, _, _, _ = hit(things, ray, words, at)
        if things.number[k, DRAWN] and dot(face, d) > 0:
            n = (-n[0], -n[1], -n[2])
            m = _facet(d, n, a, sample[AROUND], sample[AROUND + 1]) if a > 0 else n
            within = dot(d, m)
            d = refracted(d, m, GLASS_INDEX)
            if a > 0:
                # what a steep facet mirrors back into the glass does not come out here
                lost = GLASS_INDEX * GLASS_INDEX * (1.0 - within * within) >= 1.0
                passes *= 0.0 if lost else _unmasked(d, n, a) * _passing(-dot(d, m))
            o = off(p, face, d)
    return o, d, passes


@inlined
def _ground_seen(things, lights, p, d, roughness):
    """How surely, 0 to 1, and in which light (3) the plate shows the level ground that a ray from p along d comes to."""
    if not lights.seen.there or not things.levelled or d[2] >= -1e-4:
        return 0.0, (0.0, 0.0, 0.0)
    t = (things.level - p[2]) / d[2]
    if t <= 0:
        return 0.0, (0.0, 0.0, 0.0)
    return seen_at(lights.seen, along(p, d, t), SPREAD * t * roughness * roughness)


@called
def _shade_of_ground(things, lights, ray, words, address, p, at, sample):
    """Light (3) on a place of the level ground with our things there, over that without them: what a mirror or glass shows of the ground is as the plate
    has it, on which our shadows do not lie yet."""
    up = (0.0, 0.0, 1.0)
    start = off(p, up, up)
    x, y, z = lights.sky[0], lights.sky[1], lights.sky[2]
    if lights.sphere.there:
        round_ = around_matt(lights.sphere, up)
        x, y, z = x + round_[0], y + round_[1], z + round_[2]
    seen, before = _with_and_without(things, ray, words, address, start, around(up, sample[SKY], sample[SKY + 1], sample[SKY + 2]), at)
    lit, bare = (seen * x, seen * y, seen * z), (before * x, before * y, before * z)
    for s in range(lights.suns.shape[0]):
        sun = lights.suns[s]
        if sun[2] > 0:
            seen, before = _with_and_without(things, ray, words, address, start, _to_sun(sun, s, sample), at)
            k = sun[2] * seen
            lit = (lit[0] + k * sun[3], lit[1] + k * sun[4], lit[2] + k * sun[5])
            k = sun[2] * before
            bare = (bare[0] + k * sun[3], bare[1] + k * sun[4], bare[2] + k * sun[5])
    return lit[0] / max(bare[0], 1e-6), lit[1] / max(bare[1], 1e-6), lit[2] / max(bare[2], 1e-6)


@inlined
def _density_of_facets(n, v, d, nv, roughness):
    """Of directions that `facet_mirrored` gives for light to v, per steradian. Source: E. Heitz, JCGT 2018."""
    a = max(roughness * roughness, LEAST_WIDTH)
    h = normalised((d[0] + v[0], d[1] + v[1], d[2] + v[2]))
    nh = min(max(dot(n, h), 0.0), 1.0)
    k = nh * nh * (a * a - 1.0) + 1.0
    masking = 2.0 / (1.0 + math.sqrt(1.0 + a * a * (1.0 / (nv * nv) - 1.0)))
    return a * a / (math.pi * k * k) * masking / (4.0 * nv)


@inlined
def _from_even(lights, m, roughness):
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
def _from_far(lights, m, roughness):
    """The same with what is all around."""
    even = _from_even(lights, m, roughness)
    if not lights.sphere.there:
        return even
    x, y, z = around_blurred(lights.sphere, m, roughness)
    return (even[0] + x, even[1] + y, even[2] + z)


@called
def _sent_back(things, lights, ray, words, address, o, d, at, spread, sample, matt):
    """Light (3) that what the last ray met, from o along d, sends back to where the ray began: of suns and all that is far, not of a second neighbour.
    spread: roughness of the mirror, which sees the place the less sharp the farther it is. matt: a matt place asks: it has the light of what glows from the
    lamps that stand for that, and of what is far it gets here what comes past a second neighbour. Called, not put in: few rays ask, and the compiler is
    done sooner."""
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
    for s in range(lights.suns.shape[0]):
        sun = lights.suns[s]
        to = _to_sun(sun, s, sample)
        nl = dot(n, to)
        if nl > 0 and not blocked(things, ray, words, address, begin, to, at, OPAQUE | PLACE):
            # a sharp gleam of a sun in a mirror is more noise than light. Source: A. Kaplanyan, C. Dachsbacher, Path Space
            # Regularization, EUROGRAPHICS 2013
            gloss, fresnel = _gloss(n, v, to, nv, nl, max(roughness, DULL if matt else SHINY))
            f = (f0[0] + (1.0 - f0[0]) * fresnel, f0[1] + (1.0 - f0[1]) * fresnel, f0[2] + (1.0 - f0[2]) * fresnel)
            x += nl * sun[3] * (base[0] * (1.0 - metal) * (1.0 - f[0]) + f[0] * gloss)
            y += nl * sun[4] * (base[1] * (1.0 - metal) * (1.0 - f[1]) + f[1] * gloss)
            z += nl * sun[5] * (base[2] * (1.0 - metal) * (1.0 - f[2]) + f[2] * gloss)
    round_ = (0.0, 0.0, 0.0)
    if lights.sphere.there:
        round_ = around_matt(lights.sphere, n)
    turned = 2 * dot(n, v)
    far = _from_far(lights, (turned * n[0] - v[0], turned * n[1] - v[1], turned * n[2] - v[2]), roughness)
    scale, offset, lost = split_sum(nv, roughness, metal)
    soft = open_ * (1.0 - metal) * (1.0 - look[CLEAR])
    shine = (open_ * (f0[0] * scale + offset), open_ * (f0[1] * scale + offset), open_ * (f0[2] * scale + offset))
    x += base[0] * soft * (even[0] + round_[0]) + far[0] * shine[0] * (1.0 + f0[0] * lost)
    y += base[1] * soft * (even[1] + round_[1]) + far[1] * shine[1] * (1.0 + f0[1] * lost)
    z += base[2] * soft * (even[2] + round_[2]) + far[2] * shine[2] * (1.0 + f0[2] * lost)
    if look[CLEAR] > 0:
        behind = _from_far(lights, d, roughness)
        x, y, z = x + look[CLEAR] * base[0] * behind[0], y + look[CLEAR] * base[1] * behind[1], z + look[CLEAR] * base[2] * behind[2]
    if alpha < 1:
        gone = _from_far(lights, d, 0.0)
        return (gone[0] + alpha * (x - gone[0]), gone[1] + alpha * (y - gone[1]), gone[2] + alpha * (z - gone[2]))
    return (x, y, z)


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


@called
def _from_ours(things, lights, ray, words, address, o, d, at, sample):
    """Light (3) that what of ours a matt place sees along d sends back to it; nothing where that is of the place."""
    if not nearest(things, ray, words, address, o, d, at, MIRRORED) or not things.number[words[19], DRAWN]:
        return (0.0, 0.0, 0.0)
    return _sent_back(things, lights, ray, words, address, o, d, at, 1.0, sample, True)


@inlined
def water_mirrors(cosine):
    """Share of light that water mirrors at an angle to its normal. Source: Fresnel's equations as R. Cook, K. Torrance, A Reflectance Model for
    Computer Graphics, ACM TOG 1982, write them."""
    g = math.sqrt(WATER_INDEX * WATER_INDEX - 1.0 + cosine * cosine)
    a, b = g - cosine, g + cosine
    k = (cosine * b - 1.0) / (cosine * a + 1.0)
    return 0.5 * (a / b) ** 2 * (1.0 + k * k)


@inlined
def mirrored(d, n, roughness, u, v):
    """The direction in which a ray goes on from a mirror of the place, and the share that it keeps."""
    return facet_mirrored(d, n, MIRROR_WIDTH * roughness * roughness, u, v)


@inlined
def _facet_seen(w, n, a, u, v):
    """A facet of GGX's width a that is seen from direction w: two axes beside the normal n, and in these w and the facet's normal.

    Source: visible normals of the microfacets after E. Heitz, Sampling the GGX Distribution of Visible Normals, JCGT 2018.
    """
    x, y = around(n, 1.0, 0.0, 0.0), around(n, 0.0, 1.0, 0.0)
    e = (dot(w, x), dot(w, y), max(dot(w, n), 1e-4))
    h = normalised((a * e[0], a * e[1], e[2]))
    flat = h[0] * h[0] + h[1] * h[1]
    t1 = (-h[1] / math.sqrt(flat), h[0] / math.sqrt(flat), 0.0) if flat > 1e-12 else (1.0, 0.0, 0.0)
    t2 = (h[1] * t1[2] - h[2] * t1[1], h[2] * t1[0] - h[0] * t1[2], h[0] * t1[1] - h[1] * t1[0])
    r, angle = math.sqrt(u), 2 * math.pi * v
    p = r * math.cos(angle)
    s = 0.5 * (1.0 + h[2])
    q = (1.0 - s) * math.sqrt(max(0.0, 1.0 - p * p)) + s * r * math.sin(angle)
    z = math.sqrt(max(0.0, 1.0 - p * p - q * q))
    m = normalised((a * (p * t1[0] + q * t2[0] + z * h[0]), a * (p * t1[1] + q * t2[1] + z * h[1]), max(p * t1[2] + q * t2[2] + z * h[2], 1e-6)))
    return x, y, e, m


@inlined
def facet_mirrored(d, n, a, u, v):
    """The direction in which a ray goes on from facets of GGX's width a, and the share that it keeps."""
    w = (-d[0], -d[1], -d[2])
    if a < 1e-4:
        k = 2 * dot(w, n)
        return (k * n[0] - w[0], k * n[1] - w[1], k * n[2] - w[2]), 1.0
    x, y, e, m = _facet_seen(w, n, a, u, v)
    k = 2 * dot(e, m)
    o = (k * m[0] - e[0], k * m[1] - e[1], k * m[2] - e[2])
    if o[2] <= 0:
        return d, 0.0
    t = 1.0 / max(o[2] * o[2], 1e-12) - 1.0
    # of the masking only that of the way out is left, given that on the way in
    sum_in, sum_out = math.sqrt(1.0 + a * a * (1.0 / (e[2] * e[2]) - 1.0)), math.sqrt(1.0 + a * a * t)
    kept = (1.0 + sum_in) / (sum_in + sum_out)
    return (o[0] * x[0] + o[1] * y[0] + o[2] * n[0], o[0] * x[1] + o[1] * y[1] + o[2] * n[1], o[0] * x[2] + o[1] * y[2] + o[2] * n[2]), kept
