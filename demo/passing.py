"""What passes before the camera in trial shots whose mattes are hard: dark clothes before a dark wall, thin parts, leaves, a van."""

import numpy as np

import scenery
from scenery import DARK, LEAF, PAINT, RUBBER, SKIN, SLATE, WOOD, ball, box, capsule

WHEEL_PIECES, SPOKES = 18, 6


def dark_wall() -> list:
    """The terrace with a wall as dark as the clothes of who walks before it."""
    return [*scenery.terrace_solids(), box(SLATE, (-7, 6.0, 0), (7, 6.3, 2.7))]


def in_the_dark(time_s: float) -> list:
    """The visitor in dark clothes from neck to foot."""
    solids = scenery.visitor(time_s)
    for solid in solids:
        if solid[1] != SKIN:
            solid[1] = DARK
    return solids


def _wheel(x: float, y: float, radius: float, turn: float) -> list:
    rim = [turn + 2 * np.pi * k / WHEEL_PIECES for k in range(WHEEL_PIECES + 1)]
    at = lambda a, r: (x + r * np.cos(a), y, radius + r * np.sin(a))
    solids = [capsule(RUBBER, at(a, radius - 0.02), at(b, radius - 0.02), 0.018) for a, b in zip(rim, rim[1:])]
    return solids + [
        capsule(PAINT, at(turn + np.pi * k / SPOKES, radius), at(turn + np.pi * k / SPOKES + np.pi, radius), 0.005) for k in range(SPOKES)
    ]


def cyclist(time_s: float) -> list:
    """Somebody on a bicycle, from left to right: thin tubes, and wheels that one can look through."""
    speed, radius = 2.6, 0.34
    x, y = -4.4 + speed * time_s, 4.6
    turn = -speed * time_s / radius
    back, front = np.array([x - 0.52, y, radius]), np.array([x + 0.52, y, radius])
    seat, crank, bar = np.array([x - 0.2, y, 0.92]), np.array([x - 0.05, y, 0.32]), np.array([x + 0.4, y, 0.98])
    head = np.array([x + 0.33, y, 0.8])
    tubes = ((back, seat), (back, crank), (crank, seat), (crank, head), (seat, head), (head, front), (head, bar))
    solids = _wheel(*back[:2], radius, turn) + _wheel(*front[:2], radius, turn) + [capsule(PAINT, a, b, 0.017) for a, b in tubes]
    hip, shoulder = seat + [0, 0, 0.09], np.array([x + 0.18, y, 1.42])
    solids += [
        capsule(scenery.CLOTH, hip, shoulder, 0.15),
        ball(SKIN, shoulder + [0.1, 0, 0.27], 0.11),
        ball(PAINT, shoulder + [0.08, 0, 0.31], 0.115),
    ]
    for side, phase in ((-1, 0.0), (1, np.pi)):
        foot = crank + 0.17 * np.array([np.cos(0.45 * turn + phase), 0, np.sin(0.45 * turn + phase)]) + [0, 0.1 * side, 0]
        knee = (hip + foot) / 2 + [0.24, 0.06 * side, 0.06]
        solids += [capsule(scenery.TROUSERS, hip + [0, 0.08 * side, 0], knee, 0.075), capsule(scenery.TROUSERS, knee, foot, 0.055)]
        solids += [
            capsule(scenery.CLOTH, shoulder + [0, 0.16 * side, 0], bar + [-0.08, 0.2 * side, 0.04], 0.045),
            ball(SKIN, bar + [0, 0.2 * side, 0.03], 0.045),
        ]
    return solids


def van(time_s: float) -> list:
    """A van, from right to left."""
    x, y = 5.0 - 2.2 * time_s, 5.0
    solids = [
        box(PAINT, (x, y, 0.35), (x + 3.4, y + 1.5, 1.0)),
        box(PAINT, (x + 0.75, y + 0.04, 1.0), (x + 3.4, y + 1.46, 1.85)),
        box(RUBBER, (x + 0.95, y - 0.005, 1.15), (x + 1.7, y + 0.1, 1.65)),
        box(RUBBER, (x + 0.70, y + 0.1, 1.1), (x + 0.76, y + 1.4, 1.7)),
    ]
    solids += [capsule(RUBBER, (x + k, y + 0.1, 0.32), (x + k, y + 0.2, 0.32), 0.31) for k in (0.75, 2.7)]
    return solids


def leaves(time_s: float) -> list:
    """A branch that hangs into the picture near the camera and sways; its leaves flutter."""
    rng = np.random.default_rng(8)
    sway = np.array([0.06 * np.sin(1.9 * time_s), 0.02 * np.sin(1.3 * time_s), 0.02 * np.sin(2.7 * time_s + 1)])
    root, tip = np.array([2.2, 0.4, 2.9]), np.array([0.1, 0.7, 1.5])
    solids, before = [], root
    for k in range(1, 7):
        here = root + (tip - root) * k / 6 + [0, 0, 0.14 * np.sin(np.pi * k / 6)] + sway * k / 6
        solids.append(capsule(WOOD, before, here, 0.018 - 0.002 * k))
        for _ in range(13):
            at = before + (here - before) * rng.random() + rng.normal(0, (0.13, 0.1, 0.13))
            flutter = 0.35 * np.sin(rng.uniform(4, 9) * time_s + rng.uniform(0, 6))
            way = rng.uniform(-1, 1, 3) + [0, 0, -0.8 + flutter]
            solids.append(capsule(LEAF, at, at + 0.07 * way / np.linalg.norm(way), 0.026))
        before = here
    return solids
