"""The Fellgate scenery as plain numbers: solids, the rough ground, and the visitor who walks by.

Metres, z up. The sun stands at bearing 228 degrees (clockwise from +y, which is north) and 33 degrees high.
"""

import numpy as np
from scipy.ndimage import gaussian_filter

SUN_BEARING_DEG, SUN_HEIGHT_DEG = 228.0, 33.0
EVENING_BEARING_DEG, EVENING_HEIGHT_DEG = 22.0, 15.0
BOX, CYLINDER, DOME, CAPSULE, BALL = range(5)
# materials
FLAGS, STONE, METAL, WOOD, WATER, GRASS, CLOTH, SKIN, TROUSERS, DARK, SLATE, LEAF, PAINT, RUBBER = range(14)
TERRAIN_SIZE_M, TERRAIN_CELLS = 240.0, 2048


def sun_direction(bearing_deg: float = SUN_BEARING_DEG, height_deg: float = SUN_HEIGHT_DEG) -> np.ndarray:
    """(3,) unit vector towards the sun."""
    bearing, height = np.deg2rad([bearing_deg, height_deg])
    return np.array([np.sin(bearing) * np.cos(height), np.cos(bearing) * np.cos(height), np.sin(height)])


def daylight() -> np.ndarray:
    """(9,) direction to the sun, its light, and a factor on the light of the sky; red, green, blue."""
    return np.array([*sun_direction(), 1.62, 1.52, 1.32, 1.0, 1.0, 1.0])


def evening_light() -> np.ndarray:
    """The same of a low sun that looks over the letters towards the camera."""
    return np.array([*sun_direction(EVENING_BEARING_DEG, EVENING_HEIGHT_DEG), 2.6, 1.75, 0.95, 0.62, 0.55, 0.60])


def box(material, low, high):
    return [BOX, material, *low, *high, 0.0]


def cylinder(material, x, y, z0, z1, radius):
    return [CYLINDER, material, x, y, z0, x, y, z1, radius]


def dome(material, x, y, z, radius):
    return [DOME, material, x, y, z, x, y, z, radius]


def capsule(material, a, b, radius):
    return [CAPSULE, material, *a, *b, radius]


def ball(material, centre, radius):
    return [BALL, material, *centre, *centre, radius]


def terrace_solids() -> list:
    """The terrace with its walls, domes, steps, basin, benches and posts."""
    solids = [
        box(FLAGS, (-9, -6, -3), (9, 13, 0)),
        box(STONE, (-9, 12.6, 0), (-1.6, 13, 0.85)),
        box(STONE, (1.6, 12.6, 0), (9, 13, 0.85)),
        box(STONE, (-9, -6, 0), (-8.6, 13, 0.85)),
        box(STONE, (8.6, -6, 0), (9, 13, 0.85)),
    ]
    solids += [box(STONE, (-1.6, 12.6 + 0.4 * i, 0), (1.6, 17, 0.17 * (i + 1))) for i in range(4)]
    solids += [
        box(STONE, (-2.5, 14.2, -3), (12, 26, 0.68)),
        cylinder(STONE, -6.2, 16.5, -3, 2.3, 2.1),
        dome(METAL, -6.2, 16.5, 2.3, 2.2),
        cylinder(STONE, 5.0, 20.0, 0.6, 4.0, 2.9),
        dome(METAL, 5.0, 20.0, 4.0, 3.05),
        box(WOOD, (-6.9, 14.2, -1), (-5.5, 14.5, 2.0)),
        cylinder(STONE, 4.6, 8.0, 0, 0.55, 1.45),
        cylinder(WATER, 4.6, 8.0, 0.3, 0.5601, 1.22),
        cylinder(STONE, 4.6, 8.0, 0, 1.35, 0.28),
        box(WOOD, (-1.3, 11.2, 0), (0.9, 11.65, 0.45)),
        box(WOOD, (-8.2, 5.2, 0), (-7.2, 6.4, 0.7)),
        box(WOOD, (-8.1, 5.3, 0.7), (-7.4, 6.1, 1.2)),
    ]
    solids += [
        cylinder(STONE, x, y, 0, h, 0.09) for x, y, h in ((-4.6, 7.6, 1.15), (-3.6, 4.7, 1.05), (3.4, 4.6, 1.1), (6.9, 5.4, 1.2), (-6.3, 10.4, 1.1))
    ]
    return solids


def rough_ground(seed: int, height_m: float) -> np.ndarray:
    """(n, n) heights of the fell: sums of smoothed noise, highest far from the middle."""
    rng = np.random.default_rng(seed)
    n = TERRAIN_CELLS
    land = np.zeros((n, n), np.float32)
    for sigma, share in ((120, 1.0), (45, 0.4), (16, 0.1), (5, 0.022), (1.8, 0.006)):
        layer = gaussian_filter(rng.standard_normal((n, n)).astype(np.float32), sigma, mode="wrap")
        land += layer / layer.std() * share * height_m
    return land


def terrace_ground() -> np.ndarray:
    """The fell around the terrace: it drops below the walls and rises to hills behind."""
    land = rough_ground(5, 3.0)
    y, x = np.mgrid[0:TERRAIN_CELLS, 0:TERRAIN_CELLS] / TERRAIN_CELLS * TERRAIN_SIZE_M - TERRAIN_SIZE_M / 2
    distance = np.hypot(x, y - 4)
    rise = np.clip((distance - 26) / 80, 0, 1)
    return (-1.1 + land * np.clip((distance - 14) / 40, 0.06, 1) + 17 * rise**1.5).astype(np.float32)


def ridge_ground() -> np.ndarray:
    """The rough ground outside, under the drone."""
    return rough_ground(9, 1.5)


def height_at(land: np.ndarray, x: float, y: float) -> float:
    i = ((np.array([x, y]) + TERRAIN_SIZE_M / 2) / TERRAIN_SIZE_M * TERRAIN_CELLS).astype(int)
    return float(land[i[1] % TERRAIN_CELLS, i[0] % TERRAIN_CELLS])


def ridge_solids(land: np.ndarray) -> list:
    """Marker posts and boulders strewn over the rough ground, and a small dome far off."""
    rng = np.random.default_rng(3)
    solids = []
    for k in range(44):
        x, y = rng.uniform(-16, 16), rng.uniform(2, 44)
        z = height_at(land, x, y)
        if k % 2:
            solids.append(cylinder(WOOD, x, y, z - 1, z + rng.uniform(1.1, 1.7), 0.1))
        else:
            solids.append(ball(STONE, (x, y, z + 0.05), rng.uniform(0.3, 0.8)))
    z = height_at(land, 9, 52)
    return solids + [cylinder(STONE, 9, 52, z - 3, z + 3, 2.6), dome(METAL, 9, 52, z + 3, 2.75)]


def basin_ground() -> np.ndarray:
    """Uneven ground behind the paving of the basin, with hills far behind."""
    land = rough_ground(21, 3.0)
    y, x = np.mgrid[0:TERRAIN_CELLS, 0:TERRAIN_CELLS] / TERRAIN_CELLS * TERRAIN_SIZE_M - TERRAIN_SIZE_M / 2
    distance = np.hypot(x, y - 4)
    waves = 0.10 * np.sin(1.1 * x + 0.4) * np.cos(0.8 * y) + 0.05 * np.sin(2.3 * x - 1.7 * y)
    rise = np.clip((distance - 26) / 80, 0, 1)
    near = 0.10 + waves + 0.035 * np.clip(y - 6.6, 0, 6)
    far = 0.6 + land * np.clip((distance - 14) / 40, 0.06, 1) + 13 * rise**1.5
    share = np.clip((distance - 9) / 8, 0, 1)
    # under the paving it stays out of sight
    return np.where(y < 6.5, -1.0, near * (1 - share) + far * share).astype(np.float32)


def basin_solids(land: np.ndarray) -> list:
    """Paving with a kerb towards uneven ground, a basin in it, posts and stones behind, a dome far off."""
    rng = np.random.default_rng(12)
    solids = [
        box(FLAGS, (-12, -8, -3), (12, 6.4, 0)),
        box(STONE, (-12, 6.4, -3), (12, 6.75, 0.16)),
        box(STONE, (-1.9, 2.6, 0), (2.9, 5.3, 0.22)),
        box(WATER, (-1.62, 2.88, 0.05), (2.62, 5.02, 0.2201)),
        cylinder(STONE, -4.6, 5.2, 0, 0.95, 0.11),
        cylinder(STONE, 4.9, 5.6, 0, 1.0, 0.11),
    ]
    for k in range(26):
        x, y = rng.uniform(-13, 13), rng.uniform(8.5, 24)
        if abs(x - 0.4) < 4.2 and y < 11.5:
            continue
        z = height_at(land, x, y)
        solids.append(cylinder(WOOD, x, y, z - 1, z + rng.uniform(0.8, 1.3), 0.08) if k % 2 else ball(STONE, (x, y, z + 0.02), rng.uniform(0.2, 0.5)))
    z = height_at(land, -7.5, 24)
    return solids + [cylinder(STONE, -7.5, 24, z - 3, z + 2.6, 2.4), dome(METAL, -7.5, 24, z + 2.6, 2.5)]


def visitor(time_s: float) -> list:
    """A visitor who walks from left to right across the terrace, as capsules and a ball."""
    speed, stride = 1.15, 1.35
    x, y = -3.7 + speed * time_s, 4.1 + 0.08 * time_s
    phase = 2 * np.pi * speed * time_s / stride
    hip, shoulder = np.array([x, y, 0.92]), np.array([x + 0.03, y, 1.42])
    solids = [
        capsule(CLOTH, hip + [0, 0, 0.1], shoulder - [0, 0, 0.08], 0.17),
        capsule(SKIN, shoulder + [0, 0, 0.05], (x + 0.04, y, 1.6), 0.055),
        ball(SKIN, (x + 0.05, y, 1.67), 0.11),
        ball(TROUSERS, (x + 0.02, y, 1.71), 0.115),
    ]
    for side, turn in ((-1, 0.0), (1, np.pi)):
        swing = 0.45 * np.sin(phase + turn)
        bend = 0.55 * max(0.0, np.sin(phase + turn + 1.9))
        top = hip + [0, 0.1 * side, -0.02]
        knee = top + 0.43 * np.array([np.sin(swing), 0, -np.cos(swing)])
        foot = knee + 0.42 * np.array([np.sin(swing - bend), 0, -np.cos(swing - bend)])
        solids += [capsule(TROUSERS, top, knee, 0.085), capsule(TROUSERS, knee, foot, 0.065), capsule(WOOD, foot, foot + [0.14, 0, -0.01], 0.05)]
        elbow = shoulder + [0, 0.22 * side, -0.02] + 0.28 * np.array([-np.sin(swing), 0, -np.cos(swing)])
        hand = elbow + 0.26 * np.array([0.25 - np.sin(swing), 0, -np.cos(swing)])
        solids += [capsule(CLOTH, shoulder + [0, 0.2 * side, -0.04], elbow, 0.06), capsule(CLOTH, elbow, hand, 0.05), ball(SKIN, hand, 0.055)]
    return solids


def table(solids: list) -> np.ndarray:
    """(s, 13): each solid with a ball round it behind it (its middle and squared radius), by which rays pass it quickly."""
    rows = np.array(solids, float)
    low, high, radius = rows[:, 2:5], rows[:, 5:8], rows[:, 8:9]
    reach = np.linalg.norm(high - low, axis=1, keepdims=True) / 2 + radius * 1.42
    return np.hstack([rows, (low + high) / 2, reach**2])
