"""Our layers by rays: what each place of the picture sees, gathered on a film.

A place is followed from the eye through what is thin or mirrors, to what is seen; there `lighting` asks for the light.
"""

import math
from typing import NamedTuple

import numpy as np

from ..basics.jit import STOPPED, inlined, kernel, part, taken, unmanaged, whole
from ..shape.extrude import PARTS
from .eye import ray_through
from .facets import mirrored, water_mirrors
from .geometry import DRAWN, FADES, FLAT, FRESNEL, HIDES, MIRRORED, OURS, RECEIVES, REFLECTS, ROUGHNESS, SEEN, TEXTURE
from .lighting import received, shaded
from .looks import patterned, surface_at
from .meeting import FAR, MOST_MEETINGS, THIN, hit, may_meet, nearest, off, surface_of
from .sampling import BLOCK, LENS, MIRROR
from .vectors import along, bright, dot, normalised

TILE = 4  # px; how many samples it takes is decided for a whole one
# tiles that a thread takes at once: where two threads drew tiles side by side, they waited for each other's memory (measured: rays of a draft 38 ms for 28)
RUN = 8
PLAIN_SAMPLES = 2  # of a tile that none of ours is near and that nothing keeps light from; others take twice as many before their error is asked
# of a px at an edge of ours, to tell how much of it that covers: steps of 1/16 can be seen along it, as dots where it is bright before dark
EDGE_SAMPLES, FEW_SAMPLES = 64, 16
FILTERED = 6.0  # by how much the filter lowers squared noise (measured: 4 to 12)
SHADE = 2.0  # times the error of colour that shade may have: half as much of it is seen
MOST_BOUNCES = 4  # between mirrors


class Film(NamedTuple):
    """What is gathered over a part of the picture: means over samples, (h, w, ...) float32.

    colour (4): ours, premultiplied, but for `soft` (3): what is even in it, which a filter may smooth. sky (5): while samples are
    taken, what ours would send of an open sky (3), and the brightness of the sky along the samples: as far as it is open, and in all.
    lit, bare (3): light on what receives it, with and without our things. ours, place (7): normal, place and weight of what is seen
    of each, as sums. noise (3): squared error of the brightness of `soft` and of the shade, as the halves of the samples tell it; of
    one sample, 1 where some light was hidden or a mirror was met; samples of the sky that ours hide from what receives. taken: samples.
    round (12): while samples are taken, of light from all around on what receives: what an open place gets (3), what the samples told (3), and of
    that what came with our things (3) and without them (3).
    """

    colour: np.ndarray
    soft: np.ndarray
    sky: np.ndarray
    lit: np.ndarray
    bare: np.ndarray
    ours: np.ndarray
    place: np.ndarray
    noise: np.ndarray
    taken: np.ndarray
    round: np.ndarray


@inlined
def _mixed(x, y):
    """A hash of a place of the picture. Source: the finaliser of C. Wellons' hash prospector, lowbias32."""
    h = np.uint32((x * 0x9E3779B1) ^ (y * 0x85EBCA6B))
    h ^= h >> np.uint32(16)
    h = np.uint32(h * np.uint32(0x7FEB352D))
    h ^= h >> np.uint32(15)
    h = np.uint32(h * np.uint32(0x846CA68B))
    return h ^ (h >> np.uint32(16))


@inlined
def _unit(v):
    return v * 2.3283064365386963e-10


@inlined
def _look(things, lights, angle, ray, words, address, o, d, at, met, sample, lighted, colour, soft, sky, lit, bare, noise, ours, place, round_):
    """Follow one ray from the eye and add what it finds: see Film. Not `lighted`, it adds only how much of ours it sees."""
    left, travelled, mask, bounces = 1.0, 0.0, SEEN, 0
    receiving, first = True, True
    fades, mirror_at = 0.0, 0.0
    level = (things.level - o[2]) / d[2] if things.levelled and abs(d[2]) > 1e-9 else -1.0
    k, p, n, face, start, own, wide, surface = 0, o, d, d, o, o, 1.0, 0
    for _ in range(MOST_MEETINGS):
        found = (met if first else may_meet(things, o, d, mask)) and nearest(things, ray, words, address, o, d, at, mask)
        first = False
        t = ray[8] if found else FAR
        if found:
            # all of the hit at once: rays to lamps are written over it
            k, p, n, face, start, own, wide = hit(things, ray, words, at)
            surface = surface_of(things, words)
        number, value = things.number[k], things.value[k * PARTS]
        back = dot(face, d) > 0
        if found and back and number[FLAT]:
            n, face = (-n[0], -n[1], -n[2]), (-face[0], -face[1], -face[2])
        on_level = receiving and 0 < level < travelled + t
        if on_level or found and receiving and not number[DRAWN] and number[RECEIVES]:
            q, up = (along(o, d, level - travelled), (0.0, 0.0, 1.0)) if on_level else (p, n)
            receiving = not on_level
            if lighted:
                received(things, lights, ray, words, address, q, up, at, sample, left, lit, bare, noise, round_)
            _remember(place, up, q, left)
        if not found:
            return
        travelled += t
        if number[DRAWN]:
            if back and not number[FLAT]:  # from within a solid that the lens is in, or that grew thin: as if it were not there
                o = off(p, face, d)
                continue
            look = things.value[surface]
            base, alpha = surface_at(things, number, look, own, travelled, travelled * angle / wide)
            if fades > 0:  # what is far from the mirror is lost in it
                alpha *= 2.0 ** (-(travelled - mirror_at) * fades)
            rough = look[ROUGHNESS]
            if look[TEXTURE] > 0:
                base, rough, n = patterned(things, number, look, base, own, n, travelled * angle)
            if alpha > THIN:
                turned = dot(n, d)
                if turned > 0:
                    n = normalised(along(n, d, -1.01 * turned))
                share = left * alpha
                v = (-d[0], -d[1], -d[2])
                if lighted:
                    shaded(things, lights, ray, words, address, start, face, n, v, at, sample, look, rough, base, share, colour, soft, sky, noise)
                colour[3] += share
                _remember(ours, n, p, share)
            left *= 1.0 - alpha
            if left < THIN:
                return
            o = off(p, face, d)
            continue
        solid = number[HIDES] or value[REFLECTS] > 0
        receiving = receiving and not (solid or number[RECEIVES])
        if value[REFLECTS] > 0 and bounces < MOST_BOUNCES:
            if value[TEXTURE] > 0:  # ripples
                n = patterned(things, number, value, (0.0, 0.0, 0.0), own, n, travelled * angle)[2]
            if value[FRESNEL] > 0:
                left *= 1.0 - value[FRESNEL] * (1.0 - water_mirrors(abs(dot(n, d))))
            d, kept = mirrored(d, n, value[ROUGHNESS], sample[MIRROR], sample[MIRROR + 1])
            left *= kept * value[REFLECTS]
            fades, mirror_at = value[FADES], travelled
            if left < THIN:
                return
            bounces += 1
            mask = MIRRORED
            noise[1] = 1.0  # what it shows of ours may begin here
        elif solid:
            return
        o = off(p, face, d)


@inlined
def _remember(guide, n, p, share):
    guide[0] += share * n[0]
    guide[1] += share * n[1]
    guide[2] += share * n[2]
    guide[3] += share * p[0]
    guide[4] += share * p[1]
    guide[5] += share * p[2]
    guide[6] += share


@whole
def tiles(things, eye, lights, table, target, most, left, top, next_, count, film, seed, places, cover):
    """Fill tiles, RUN at once whose number is taken from next_ (1,), as long as there are any of `count`, by rows over the part of the picture that
    begins at (left, top), px. With places (count, 2), row and column of single px of it, fill cover (count,) with how much of ours these show.

    table: of `sampling.samples`. Each tile takes samples, twice as many from round to round, until the rms error of its colour
    and of its shade is under `target` or `most` are taken. seed: another one takes other places in the px and other moments.
    """
    buffer, halves = np.empty(48, np.float32), np.zeros((TILE * TILE, 12))
    ray, half = unmanaged(buffer[_aligned(buffer) :]), unmanaged(halves)
    words, address = unmanaged(ray.view(np.uint32)), ray.ctypes.data
    things, eye, lights, film, table = unmanaged(things), unmanaged(eye), unmanaged(lights), unmanaged(film), unmanaged(table)
    height, width = film.colour.shape[:2]
    across = (left + width - 1) // TILE - left // TILE + 1
    while True:
        first = taken(next_) * RUN
        if first >= count:
            break
        for number in range(first, min(first + RUN, count)):
            if next_[0] >= STOPPED:
                break
            if len(places) > 0:
                y, x = places[number, 0] + top, places[number, 1] + left
                cover[number] = _covered(things, lights, eye, table, most, x, y, seed, ray, words, address, half)
                continue
            y0, x0 = (number // across) * TILE, (number % across) * TILE
            y1, x1 = min(y0 + TILE, height), min(x0 + TILE, width)
            _fill(things, eye, lights, table, target, most, left, top, y0, x0, y1, x1, film, seed, ray, words, address, half)
    _keep(buffer, halves)


@inlined
def _fill(things, eye, lights, table, target, most, left, top, y0, x0, y1, x1, film, seed, ray, words, address, half):
    """One tile, px y0 to y1 and x0 to x1 of the film."""
    done, until, plain = 0, min(most, PLAIN_SAMPLES), True
    _blank(film, y0, x0, y1, x1)
    while True:
        middle = max(until // 2, 1) if done == 0 else done
        for y in range(y0, y1):
            for x in range(x0, x1):
                lane = (y - y0) * TILE + x - x0
                own, among = _own(x + left, y + top, seed)
                colour, soft, sky, lit, bare = film.colour[y, x], film.soft[y, x], film.sky[y, x], film.lit[y, x], film.bare[y, x]
                noise, ours, place, round_ = film.noise[y, x], film.ours[y, x], film.place[y, x], film.round[y, x]
                for s in range(done, until):
                    if s == middle:
                        _note(half[lane], colour, soft, sky, lit, bare, round_)
                    o, d, at = _ray_of(eye, table.places[s, among], own, most, x + left, y + top)
                    met = may_meet(things, o, d, SEEN)
                    plain = plain and not (met and may_meet(things, o, d, OURS))
                    turns = table.turns[s, among]
                    of = (colour, soft, sky, lit, bare, noise, ours, place, round_)
                    _look(things, lights, eye.angle, ray, words, address, o, d, at, met, turns, True, *of)
                plain = plain and noise[1] == 0
        done = until
        if done >= most:
            _close_enough(half, film, y0, x0, y1, x1, middle, done, target, lights.open_sky)
            break
        if target > 0 and (plain or done > PLAIN_SAMPLES) and _close_enough(half, film, y0, x0, y1, x1, middle, done, target, lights.open_sky):
            break
        until = min(2 * done, most)
    _mean(film, y0, x0, y1, x1, done)


@inlined
def _own(x, y, seed):
    """The hash of px (x, y) of the picture, and its number among those that share the sky's directions out."""
    return _mixed(x, y) ^ seed, (y + (seed >> 3)) % BLOCK * BLOCK + (x + seed) % BLOCK


@inlined
def _covered(things, lights, eye, table, most, x, y, seed, ray, words, address, room):
    """How much of px (x, y) of the picture shows ours, by EDGE_SAMPLES; by a few, where these agree. room (2, 12) is written over."""
    own, among = _own(x, y, seed)
    seen, rest, total, count, least, highest = room[0], room[1], 0.0, min(most, EDGE_SAMPLES), 1.0, 0.0
    for s in range(count):
        if s == FEW_SAMPLES and highest - least < THIN:
            return total / s
        o, d, at = _ray_of(eye, table.places[s, among], own, most, x, y)
        seen[3] = 0.0
        of = (seen, rest, rest, rest, rest, rest, rest, rest, rest)
        _look(things, lights, eye.angle, ray, words, address, o, d, at, may_meet(things, o, d, SEEN), table.turns[s, among], False, *of)
        total, least, highest = total + seen[3], min(least, seen[3]), max(highest, seen[3])
    return total / count


@inlined
def _ray_of(eye, place, own, most, x, y):
    """The ray of one sample of px (x, y): where it begins, its direction, and its time of the exposure, 0 to 1. place: of the sample; own: the px's hash;
    of one sample alone it is the middle of each."""
    at_x, at_y, u, lens_x, lens_y = 0.5, 0.5, 0.5, 0.0, 0.0
    if most > 1:
        at_x, at_y = _unit(place[0] ^ own), _unit(place[1] ^ np.uint32(own * np.uint32(0x9E3779B1)))
        u = _unit(place[2] ^ np.uint32(own * np.uint32(0x85EBCA6B)))
        if eye.aperture > 0:
            r = math.sqrt(_unit(place[LENS] ^ np.uint32(own * np.uint32(0xC2B2AE35))))
            angle = 2 * math.pi * _unit(place[LENS + 1] ^ np.uint32(own * np.uint32(0x27D4EB2F)))
            lens_x, lens_y = r * math.cos(angle), r * math.sin(angle)
    return ray_through(eye, x + at_x - 0.5, y + at_y - 0.5, u, lens_x, lens_y)


@part
def _keep(buffer, halves):
    """What is uncounted lives as long as what it is a view of: until here."""
    return buffer[0] + halves[0, 0]


@inlined
def _aligned(room):
    """Where in words of `room` the next 64 bytes begin."""
    return ((64 - room.ctypes.data % 64) % 64) // 4


@inlined
def _note(half, colour, soft, sky, lit, bare, round_):
    """What the first half of the samples gave: brightness of all, alpha, brightness of `soft`, of the light with and without our things, `sky` and
    `round_`."""
    half[0], half[1], half[2] = bright(colour) + bright(soft), colour[3], bright(soft)
    half[3], half[4] = bright(lit), bright(bare)
    half[5], half[6], half[7] = bright(sky), sky[3], sky[4]
    for k in range(4):
        half[8 + k] = bright(round_[3 * k : 3 * k + 3])


@inlined
def _share_of(whole, told, came):
    """What comes of light from all around, by what samples told of it and what of that came. A ratio of sums is never less than nothing, and has no
    noise where all is open."""
    return whole * came / told if told > 1e-12 else whole


@inlined
def _left_open(share, count):
    """Squared error of a share that so many samples of yes and no tell (Laplace's rule, with half a sample of each before them)."""
    p = (share * count + 0.5) / (count + 1)
    return p * (1 - p) / count


@inlined
def _close_enough(half, film, y0, x0, y1, x1, middle, done, target, open_sky):
    """Whether the tile's rms error is under the target; writes the noise of each pixel. The two halves of the samples are two
    pictures of the same: half of their difference is what their mean is off by."""
    if middle == 0 or middle == done:
        return False
    a, b = 1.0 / middle, 1.0 / (done - middle)
    of_colour, of_shade, shift = 0.0, 0.0, 0.0
    for y in range(y0, y1):
        for x in range(x0, x1):
            h = half[(y - y0) * TILE + x - x0]
            soft, crisp = bright(film.soft[y, x]), bright(film.colour[y, x])
            lit, bare = bright(film.lit[y, x]), bright(film.bare[y, x])
            # each half has an open share of the sky of its own
            sky, part, all_ = bright(film.sky[y, x]), film.sky[y, x, 3], film.sky[y, x, 4]
            of_one = h[5] * a * (h[6] / h[7] if h[7] > 0 else 1.0)
            of_other = (sky - h[5]) * b * ((part - h[6]) / (all_ - h[7]) if all_ - h[7] > 1e-12 else 1.0)
            # by how much of ours each half saw: where that differs, it is told apart afterwards, by `_covered`
            one, other = h[1] * a, (film.colour[y, x, 3] - h[1]) * b
            k, l = (0.5 * (one + other) / one, 0.5 * (one + other) / other) if one > 0 and other > 0 else (1.0, 1.0)
            e = 0.5 * ((h[0] * a + of_one) * k - ((crisp + soft - h[0]) * b + of_other) * l)
            f = 0.5 * (one * k - other * l)
            of_colour += max(e * e, f * f)
            if film.colour[y, x, 3] > 0.999 * done:
                # what is seen in mirrors and through glass is not filtered
                first = h[0] - h[2]
                e = 0.5 * (first * a - (crisp - first) * b)
                of_colour += (FILTERED - 1.0) * e * e
            e = 0.5 * ((h[2] * a + of_one) * k - ((soft - h[2]) * b + of_other) * l)
            film.noise[y, x, 0] = e * e
            if part < 0.999 * all_:
                # where all of few samples are hidden the halves agree, and say nothing
                unknown = sky * sky * _left_open(part / all_, done) / (done * done)
                film.noise[y, x, 0] = max(e * e, unknown)
                of_colour += unknown / FILTERED
            whole, told, with_, without = (
                bright(film.round[y, x, 0:3]),
                bright(film.round[y, x, 3:6]),
                bright(film.round[y, x, 6:9]),
                bright(film.round[y, x, 9:12]),
            )
            lit_a, bare_a = h[3] + _share_of(h[8], h[9], h[10]), h[4] + _share_of(h[8], h[9], h[11])
            lit_b = lit - h[3] + _share_of(whole - h[8], told - h[9], with_ - h[10])
            bare_b = bare - h[4] + _share_of(whole - h[8], told - h[9], without - h[11])
            bare += _share_of(whole, told, without)
            e = 0.0
            if bare_a > 1e-9 and bare_b > 1e-9:
                e = 0.5 * (lit_a / bare_a - lit_b / bare_b) * (1.0 - film.colour[y, x, 3] / done)
            film.noise[y, x, 1] = e * e
            if film.noise[y, x, 2] > 0 and bare > 1e-9:
                # one hidden sample in each half agree too, on what may be the chance of both
                there = film.place[y, x, 6]
                film.noise[y, x, 1] = max(e * e, (open_sky * there / bare) ** 2 * _left_open(film.noise[y, x, 2] / there, there))
            of_shade += e * e
            shift += e
    # the filter averages over as many px as a tile has: what it leaves is what all of them have in common, and a little of the rest
    count = (y1 - y0) * (x1 - x0)
    of_shade = max(shift * shift / count, of_shade / FILTERED) / (SHADE * SHADE)
    return max(of_colour, of_shade) <= target * target * count


@inlined
def _blank(film, y0, x0, y1, x1):
    for y in range(y0, y1):
        for x in range(x0, x1):
            film.colour[y, x, :], film.soft[y, x, :], film.sky[y, x, :], film.lit[y, x, :], film.bare[y, x, :] = 0.0, 0.0, 0.0, 0.0, 0.0
            film.ours[y, x, :], film.place[y, x, :], film.noise[y, x, :], film.round[y, x, :] = 0.0, 0.0, 0.0, 0.0


@inlined
def _mean(film, y0, x0, y1, x1, done):
    k = np.float32(1.0 / done)
    for y in range(y0, y1):
        for x in range(x0, x1):
            film.taken[y, x] = done
            open_ = film.sky[y, x, 3] / film.sky[y, x, 4] if film.sky[y, x, 4] > 0 else np.float32(1.0)
            for c in range(4):
                film.colour[y, x, c] *= k
            for c in range(3):
                film.soft[y, x, c] = k * (film.soft[y, x, c] + open_ * film.sky[y, x, c])
                whole, told = film.round[y, x, c], film.round[y, x, 3 + c]
                film.lit[y, x, c] = k * (film.lit[y, x, c] + _share_of(whole, told, film.round[y, x, 6 + c]))
                film.bare[y, x, c] = k * (film.bare[y, x, c] + _share_of(whole, told, film.round[y, x, 9 + c]))


@kernel
def join(film, shade, even):
    """Put filtered light (3, h, w) back into a film: `soft` into `colour`, and the shade into `lit`."""
    for y in range(film.lit.shape[0]):
        for x in range(film.lit.shape[1]):
            for c in range(3):
                # what few samples take of the sky's light may be more than there is
                film.colour[y, x, c] = max(film.colour[y, x, c] + even[c, y, x] * film.colour[y, x, 3], 0.0)
                film.lit[y, x, c] = max(shade[c, y, x], 0.0) * film.bare[y, x, c]
