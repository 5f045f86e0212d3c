"""The light on a place: what receives it gets it with and without ours, and what of it ours send to the eye.

A new lamp is asked here, a new property of a surface is used here.
"""

import math
from typing import NamedTuple

from ..basics.jit import inlined
from .energy import LEAST_WIDTH, split_sum
from .facets import COAT_F0, density_of_facets, facet, facet_mirrored, gloss_lobe, passing, refracted, unmasked
from .geometry import CLEAR, COAT, DRAWN, GLOW, METAL, MIRRORED, OPAQUE, PLACE
from .incoming import SHINY, SPREAD, from_even, from_far, from_ours, ground_seen, lamp_on, sent_back, shade_of_ground, to_sun, with_and_without
from .meeting import blocked, hit, may_meet, nearest, off, share_open
from .near import BEFORE, asked, from_near
from .sampling import AROUND, MIRROR, SKY
from .seen import seen_at
from .sphere import around_in, around_matt, chosen, density_and_light, density_of, guide_of
from .vectors import along, around, bright, dot

COAT_ROUGHNESS = 0.06  # of a clear coat: polished
WIDE_GLOSS = 0.3  # roughness
MOST_HIDDEN = 1.5  # times the mean of all facets
NEAR_FACETS = 0.85  # of all, by how far they lie off
GLASS_INDEX, THROUGH = 1.5, 2  # of windows; number of the layer that is asked for what lies behind
FROSTED = 0.1  # roughness of glass, from which what stands behind it is blurred
BEYOND = 1e3  # sizes of our things: so far away lies what no ray comes to


@inlined
def _all_round(sphere, n, d, sample):
    """Of a matt white place with normal n: light (3) that it sends back of all around where nothing is before that; the part (3) of it that is told
    by direction d, chosen by the cosine; a direction chosen by the light, and the part (3) told by that.

    Source: the balance heuristic, E. Veach, L. Guibas, Optimally Combining Sampling Techniques, SIGGRAPH 1995.
    """
    guide = guide_of(sphere, n)
    cosine = max(dot(n, d), 0.0) / math.pi
    density, (r, g, b) = density_and_light(sphere, guide, d)
    k = cosine / max(cosine + density, 1e-12)
    e = chosen(sphere, guide, sample[AROUND], sample[AROUND + 1])
    cosine = dot(n, e) / math.pi
    second = (0.0, 0.0, 0.0)
    if cosine > 0:
        density, (x, y, z) = density_and_light(sphere, guide, e)
        j = cosine / max(cosine + density, 1e-12)
        second = (j * x, j * y, j * z)
    return around_matt(sphere, n), (k * r, k * g, k * b), e, second


@inlined
def received(things, lights, ray, words, address, p, n, at, sample, share, lit, bare, noise, round_):
    """Add the light on a place that receives it, with our things to `lit` and without them to `bare` (3,), `share` of it; and to `round_` (12,) what
    tells that of all around: what an open place gets, what its samples told, and of that what came with and without our things."""
    start = off(p, n, n)
    for s in range(lights.suns.shape[0]):
        sun = lights.suns[s]
        d = to_sun(sun, s, sample)
        towards = dot(n, d)
        if towards <= 0:
            continue
        seen, before = with_and_without(things, ray, words, address, start, d, at)
        for c in range(3):
            lit[c] += share * towards * seen * sun[3 + c]
            bare[c] += share * towards * before * sun[3 + c]
        if seen < before:
            noise[1] = 1.0
    for which in range(asked(lights)):
        # of lamps that we add there is none without our things
        light, _, towards = lamp_on(things, lights, ray, words, address, p, start, n, at, sample, which)
        if light[0] + light[1] + light[2] > 0:
            noise[1] = 1.0
            for c in range(3):
                lit[c] += share * towards * light[c]
    d = around(n, sample[SKY], sample[SKY + 1], sample[SKY + 2])
    seen, before = with_and_without(things, ray, words, address, start, d, at)
    up = 0.5 + 0.5 * n[2]
    if seen < before:
        noise[1] = 1.0
        noise[2] += share * (before - seen)
        light = from_ours(things, lights, ray, words, address, start, d, at, sample)
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
            with_e, bare_e = with_and_without(things, ray, words, address, start, e, at)
            if with_e < bare_e:
                noise[1] = 1.0
                noise[2] += 0.5 * share * (bare_e - with_e)
        for c in range(3):
            round_[c] += share * whole3[c]
            round_[3 + c] += share * (first[c] + second[c])
            round_[6 + c] += share * (seen * first[c] + with_e * second[c])
            round_[9 + c] += share * (before * first[c] + bare_e * second[c])


@inlined
def _add_light(d, nl, of, light, soft, glossy, colour, seen_anyway):
    """Add light (3) from one direction that the surface sends to the eye: what is even to `soft`, gloss to `glossy`, that of the coat to `colour`.
    seen_anyway: it comes from what rays to neighbours find, so that what mirrors it would have it twice."""
    gloss, fresnel = gloss_lobe(of.n, of.v, d, of.nv, nl, of.roughness)
    kept, over = 1.0, 0.0
    if of.coat > 0:
        shine, edge = gloss_lobe(of.n, of.v, d, of.nv, nl, COAT_ROUGHNESS)
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
        d = to_sun(sun, s, sample)
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
        light = from_ours(things, lights, ray, words, address, of.start, d, at, sample)
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
            if of.sampled and seen > 0 and not behind and not (e[2] < 0 and ground_seen(things, lights, of.start, e, of.roughness)[0] > 0):
                _add_gloss_by_light(lights.sphere, of, e, seen, soft)
    up, turned = 0.5 + 0.5 * n[2], 2 * dot(n, v)
    m = (turned * n[0] - v[0], turned * n[1] - v[1], turned * n[2] - v[2])
    glossy, crisp = from_even(lights, m, of.roughness) if of.sampled else from_far(lights, m, of.roughness), (0.0, 0.0, 0.0)
    if of.coat > 0:
        crisp = from_far(lights, m, COAT_ROUGHNESS)
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
    lobe, fresnel = gloss_lobe(of.n, of.v, e, of.nv, max(nl, 1e-6), of.roughness)
    among = density_of_facets(of.n, of.v, e, of.nv, of.roughness) + density_of(sphere, guide_of(sphere, of.n), e)
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
            sure, ground = ground_seen(things, lights, o, d, wide)
            if sure > 0:
                shade = shade_of_ground(things, lights, ray, words, address, along(o, d, (things.level - o[2]) / d[2]), at, sample)
                ground = (ground[0] * shade[0], ground[1] * shade[1], ground[2] * shade[2])
            if layer == THROUGH and sure <= 0:
                sure, ground = seen_at(lights.seen, along(o, d, BEYOND), SPREAD * BEYOND * wide * wide)
        if not meets and not by_sample and sure <= 0 and layer < THROUGH:
            continue
        noise[0] = 1.0
        met, gone, weight = (0.0, 0.0, 0.0), (0.0, 0.0, 0.0), 1.0
        if meets:
            met = sent_back(things, lights, ray, words, address, o, d, at, wide, sample, False)
            gone = from_even(lights, d, 0.0) if by_sample else _hidden(lights, of, d, wide)
        elif sure > 0 or layer == THROUGH:
            far = from_far(lights, d, wide if layer == THROUGH else 0.0)
            met = (far[0] + sure * (ground[0] - far[0]), far[1] + sure * (ground[1] - far[1]), far[2] + sure * (ground[2] - far[2]))
            gone = from_even(lights, d, 0.0) if by_sample else far
        else:
            met = around_in(lights.sphere, d)
            own = density_of_facets(n, v, d, of.nv, of.roughness)
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
    mean = from_far(lights, (turned * of.n[0] - of.v[0], turned * of.n[1] - of.v[1], turned * of.n[2] - of.v[2]), roughness)
    x, y, z = from_far(lights, d, 0.0)
    return min(x, MOST_HIDDEN * mean[0]), min(y, MOST_HIDDEN * mean[1]), min(z, MOST_HIDDEN * mean[2])


@inlined
def _through(things, ray, words, address, of, at, sample, a):
    """Where a ray from the eye leaves the glass that it went into, and its direction then: bent where it goes in and where it comes out, by facets of GGX's
    width a, and the share of light that both faces let pass; by the surface itself for 0. Source: B. Walter and others, Microfacet Models for Refraction through Rough Surfaces, EGSR 2007."""
    d = (-of.v[0], -of.v[1], -of.v[2])
    n = facet(d, of.n, a, sample[MIRROR], sample[MIRROR + 1]) if a > 0 else of.n
    passes = passing(-dot(d, n))
    d = refracted(d, n, 1.0 / GLASS_INDEX)
    if a > 0:
        passes *= unmasked(d, of.n, a)
    else:
        passes *= passes  # of both faces, which lie alike but at edges
    o = off(off(of.start, of.face, d), of.face, d)  # from a hair before the surface to a hair behind it
    if nearest(things, ray, words, address, o, d, at, MIRRORED):
        k, p, n, face, _, _, _ = hit(things, ray, words, at)
        if things.number[k, DRAWN] and dot(face, d) > 0:
            n = (-n[0], -n[1], -n[2])
            m = facet(d, n, a, sample[AROUND], sample[AROUND + 1]) if a > 0 else n
            within = dot(d, m)
            d = refracted(d, m, GLASS_INDEX)
            if a > 0:
                # what a steep facet mirrors back into the glass does not come out here
                lost = GLASS_INDEX * GLASS_INDEX * (1.0 - within * within) >= 1.0
                passes *= 0.0 if lost else unmasked(d, n, a) * passing(-dot(d, m))
            o = off(p, face, d)
    return o, d, passes
