"""Keys that are moved, copied and eased, and the motions that are generated as keys."""

import unittest

import msgspec
import numpy as np
from scipy.interpolate import BPoly
from scipy.optimize import brentq

from lodestar.core.basics.errors import UserError
from lodestar.core.basics.keyed import Key, Keyed, constant, ease
from lodestar.core.shot.document import Shot
from lodestar.core.shot.motion import (
    LIT,
    OUT,
    SWING,
    bounced,
    change_keys,
    constant_speed,
    eased,
    flickered,
    keyed_things,
    looped,
    moved_keys,
    overshot,
    shaped,
    speed,
    whole_motion,
    with_fields,
    without_keys,
)
from lodestar.core.shot.objects import Title


def motion(*pairs, easing="smooth") -> Keyed:
    return Keyed(pairs[0][1], tuple(Key(float(f), v, easing) for f, v in pairs))


class OverTest(unittest.TestCase):
    def test_many_times_at_once_are_each_as_alone(self):
        keys = (
            Key(2.0, (0.0, 5.0), "smooth"),
            Key(9.5, (1.0, 4.0), "hold"),
            Key(12.0, (3.0, 3.0), "free", (0.9, 0.1, 0.2, 1.4)),
            Key(20.0, (2.0, 2.0)),
        )
        apart = (keys[0], msgspec.structs.replace(keys[1], only=(1,)), msgspec.structs.replace(keys[2], only=(0,)), keys[3])
        for value in (Keyed((7.0, 8.0), keys), Keyed((7.0, 8.0), keys[:1]), Keyed((7.0, 8.0), apart), Keyed((7.0, 8.0), apart[1:3])):
            frames = np.array([-3.0, 2.0, 2.5, 9.49, 9.5, 11.0, 12.0, 13.7, 19.999, 20.0, 31.0])
            np.testing.assert_allclose(value.over(frames), [value.at(f) for f in frames], atol=1e-9)
        self.assertEqual(Keyed((7.0,)).over(np.arange(4.0)).tolist(), [[7.0]])


class EasingTest(unittest.TestCase):
    def test_free_handles_against_bernstein_polynomials_of_scipy(self):
        # W3C CSS Easing Functions Level 1, 2.3: y(t) where x(t) is the share of time; y may leave 0..1, x may not
        for handles in ((0.68, -0.55, 0.265, 1.55), (0.0, 1.4, 1.0, -0.6), (1.0, 0.0, 0.0, 1.0), (0.25, 0.1, 0.25, 1.0)):
            x, y = (BPoly(np.array([[0.0], [handles[i]], [handles[i + 2]], [1.0]]), [0, 1]) for i in (0, 1))
            for share in np.linspace(0.02, 0.98, 25):
                want = float(y(brentq(lambda t, s=share, x=x: float(x(t)) - s, 0, 1, xtol=1e-12)))
                self.assertAlmostEqual(ease(Key(0, (0.0,), "free", handles), share), want, places=5)

    def test_the_times_of_handles_stay_within_their_step(self):
        value = shaped(motion((0, (0.0,)), (10, (1.0,))), 0.0, (-0.4, -2.0, 1.7, 3.0))
        self.assertEqual(value.keys[0].handles, (0.0, -2.0, 1.0, 3.0))
        self.assertEqual(value.keys[0].easing, "free")

    def test_a_free_easing_begins_with_the_shape_that_it_had(self):
        for easing in ("linear", "smooth"):
            before = motion((0, (0.0,)), (10, (5.0,)), easing=easing)
            after = eased(before, [0.0], "free")
            for f in np.linspace(0, 10, 11):
                self.assertAlmostEqual(before.at(f)[0], after.at(f)[0], places=9)
        self.assertEqual(eased(before, [0.0], "hold").at(9.9), (0.0,))


class KeysTest(unittest.TestCase):
    def test_moving_copying_and_deleting(self):
        value = motion((0, (0.0,)), (10, (1.0,)), (20, (2.0,)))
        self.assertEqual([(k.frame, k.value[0]) for k in moved_keys(value, [0.0, 10.0], 10).keys], [(10, 0), (20, 1)])
        copied = moved_keys(value, [0.0, 10.0], 30, copy=True)
        self.assertEqual([(k.frame, k.value[0]) for k in copied.keys], [(0, 0), (10, 1), (20, 2), (30, 0), (40, 1)])
        self.assertEqual(without_keys(value, [0.0, 10.0, 20.0]), Keyed((2.0,)))

    def test_keys_of_several_things_change_in_one_step(self):
        shot = Shot(
            objects=(Title(id="a", position=motion((0, (0.0, 0, 0)), (9, (1.0, 0, 0)))), Title(id="b", size=motion((0, (1.0,)), (5, (2.0,)))))
        )
        shot = with_fields(shot, "sun", bearing=motion((0, (10.0,)), (5, (20.0,))))
        chosen = whole_motion(shot, "a") | whole_motion(shot, "b") | whole_motion(shot, "sun")
        self.assertEqual(len(chosen), 6)
        after = change_keys(shot, chosen, lambda value, frames: moved_keys(value, frames, 3))
        self.assertEqual([k.frame for k in after.objects[0].position.keys], [3, 12])
        self.assertEqual([k.frame for k in after.objects[1].size.keys], [3, 8])
        self.assertEqual([k.frame for k in keyed_things(after)["sun"].bearing.keys], [3, 8])
        self.assertIs(change_keys(shot, frozenset({("gone", "position", 0.0)}), without_keys), shot)


class ConstantSpeedTest(unittest.TestCase):
    def test_one_speed_from_end_to_end(self):
        value = motion((0, (0.0, 0.0)), (50, (3.0, 4.0)), (60, (3.0, 14.0)), (100, (8.0, 14.0)))
        before, after = (speed(v, np.linspace(1, 99, 197), 25.0) for v in (value, constant_speed(value, [0.0])))
        self.assertGreater(before.max() / before.mean(), 2)
        # 20 units in 100 frames of 1/25 s; two samples straddle a corner, where the straight line is shorter
        self.assertAlmostEqual(float(np.median(after)), 5.0, places=6)
        self.assertLess(np.sort(np.abs(after - 5.0))[-5], 1e-6)
        self.assertEqual([k.frame for k in constant_speed(value, [0.0]).keys], [0, 25, 75, 100])

    def test_what_stands_still_or_has_one_key(self):
        still = motion((0, (1.0,)), (10, (1.0,)))
        self.assertIs(constant_speed(still, [0.0]), still)
        twice = constant_speed(motion((0, (0.0,)), (4, (1.0,)), (9, (1.0,)), (20, (2.0,))), [0.0])
        self.assertEqual([k.frame for k in twice.keys], [0, 10, 20])
        with self.assertRaises(UserError):
            constant_speed(motion((0, (1.0,))), [0.0])


class GeneratedTest(unittest.TestCase):
    def test_loops(self):
        swing = motion((0, (0.0,)), (4, (2.0,)), (10, (5.0,)))
        again, back, on = (looped(swing, [0.0], 60, how) for how in ("again", "there and back", "onwards"))
        for f in np.linspace(0, 10, 41):
            at = swing.at(f)[0]
            self.assertAlmostEqual(again.at(f + 22)[0], at, places=6)  # a round is ten frames and one to jump back
            self.assertAlmostEqual(back.at(20 - f)[0], at, places=6)
            self.assertAlmostEqual(back.at(f + 40)[0], at, places=6)
            self.assertAlmostEqual(on.at(f + 30)[0], at + 15, places=6)
        self.assertGreaterEqual(back.keys[-1].frame, 60)
        closed = looped(motion((0, (0.0,)), (5, (1.0,)), (10, (0.0,))), [0.0], 30)
        self.assertEqual([k.frame for k in closed.keys], [0, 5, 10, 15, 20, 25, 30])
        with self.assertRaises(UserError):
            looped(motion((0, (0.0,)), (1, (1.0,))), [0.0], 3000)

    def test_a_bounce_against_a_ball_that_is_simulated(self):
        # uniform acceleration, and a coefficient of restitution of 0.6 (any mechanics text)
        value = bounced(motion((0, (1.0,)), (20, (0.0,))), [0.0], 0.6)
        g, h, v, dt = 2 / 20**2, 1.0, 0.0, 1e-3
        places, t = {}, 0.0
        while t < 60:
            v -= g * dt
            h += v * dt
            if h < 0:
                h, v = -h, -0.6 * v
            t += dt
            if abs(t - round(t)) < dt / 2:
                places[round(t)] = h
        for frame, height in places.items():
            self.assertAlmostEqual(value.at(frame)[0], height, delta=0.004)
        self.assertEqual(value.keys[-1].value, (0.0,))
        with self.assertRaises(UserError):
            bounced(value, [0.0], 1.0)

    def test_an_overshoot_against_a_damped_spring(self):
        # step response of a second-order system, peaks at 1 + o, 1 - o^2, ...: Ogata, Modern Control Engineering (from memory)
        share = 0.2
        value = overshot(motion((0, (0.0,)), (10, (1.0,))), [0.0], share)
        zeta = -np.log(share) / np.hypot(np.pi, np.log(share))
        decay, omega = zeta / np.sqrt(1 - zeta**2) * np.pi, np.pi
        response = lambda k: 1 - np.exp(-decay * k) * (np.cos(omega * k) + decay / omega * np.sin(omega * k))
        for i, key in enumerate(value.keys[1:-1], 1):
            self.assertAlmostEqual(key.value[0], response(i), places=9)
        self.assertEqual(value.keys[-1].value, (1.0,))
        x = np.linspace(0, 1, 51)
        swing = [ease(Key(0, (0.0,), "free", SWING), s) for s in x]
        np.testing.assert_allclose(swing, (1 - np.cos(np.pi * x)) / 2, atol=0.003)

    def test_a_flicker_stays_on_and_off_as_a_chain_of_two_states_does(self):
        # mean lengths of stay and the share of time on follow from the two rates (stationary distribution of a two-state Markov chain)
        value = motion((0, (2.0,)), (4000, (2.0,)))
        keys = flickered(value, [0.0]).keys
        lengths = np.diff([k.frame for k in keys])
        lit = np.array([k.value[0] == 2.0 for k in keys[:-1]])
        rounded = lambda mean: sum(max(1, round(x)) for x in -mean * np.log((np.arange(100_000) + 0.5) / 100_000)) / 100_000
        self.assertAlmostEqual(lengths[lit].mean(), rounded(LIT), delta=0.6)
        self.assertAlmostEqual(lengths[~lit].mean(), rounded(OUT), delta=0.3)
        dips = np.array([k.value[0] for k in keys[:-1]])[~lit]
        self.assertTrue(((dips >= 0.2) & (dips <= 1.2)).all())
        self.assertEqual((keys[0].value, keys[-1].frame, keys[-1].value), ((2.0,), 4000, (2.0,)))
        other = flickered(motion((0, (5.0,)), (4000, (5.0,))), [0.0]).keys
        np.testing.assert_allclose([k.value[0] / 5 for k in other], [k.value[0] / 2 for k in keys])
        for wrong in (motion((0, (1.0, 2.0)), (9, (1.0, 3.0))), motion((0, (1.0,))), motion((0, (1.0,)), (9000, (1.0,)))):
            with self.assertRaises(UserError):
                flickered(wrong, [0.0])

    def test_what_comes_after_gives_way_and_what_came_before_stays(self):
        value = motion((0, (0.0,)), (10, (1.0,)), (20, (0.0,)), (200, (9.0,)))
        for make in (bounced, overshot, flickered):
            keys = make(value, [10.0, 20.0]).keys
            self.assertEqual((keys[0].frame, keys[-1].frame), (0, 200))
        self.assertEqual(constant(1.0).keys, ())


if __name__ == "__main__":
    unittest.main()
