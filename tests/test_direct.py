"""What directs bodies: launches, blasts, events, joints, wind. Sources as in docs/references.md; values are derived
here."""

import unittest

import numpy as np
from pydantic import ValidationError
from scipy.integrate import quad, solve_ivp
from scipy.special import ellipk

from tests.bodies import FREE, GROUND, momentum, run, solver
from urst.core.bodies.mobility import ABSENT, DRIVEN, FIXED, LOOSE
from urst.core.geometry import generators
from urst.core.geometry.mesh import transformed
from urst.core.geometry.rotation import from_degrees, matrix
from urst.core.launch import blast, launch
from urst.core.launch.settings import SpinningLaunch as Launch
from urst.core.rigid.director import Directed
from urst.core.rigid.joints import Jointed
from urst.core.rigid.settings import BondSettings, Event, Joint, Region, RigidSettings

G = 9.81
box = generators.box_between
OUT = (0.0, 0.0, 0.0)


def cube(x=0.0, y=0.0, z=0.0, side=0.2):
    return box((x, y, z), (x + side, y + side, z + side))


def some(n, numbers):
    mask = np.zeros(n, bool)
    mask[list(numbers)] = True
    return mask


def event(n, members, by=None, **words):
    return Directed(Event(**words), some(n, members), None if by is None else some(n, by))


def joint(n, first, second=None, **words):
    other = {"second": "b"} if second is not None else {}
    return Jointed(Joint(first="a", **other, **words), some(n, [first]), None if second is None else some(n, [second]))


def chain(n, length, thick):
    """Rods along x from (0, 0, 5), the first held there, and the words for their solver."""
    half = 0.5 * thick
    rods = [box((length * k, -half, 5 - half), (length * (k + 1), half, 5 + half)) for k in range(n)]
    ends = [joint(n, 0, kind="ball", at=(0, 0, 5))]
    return rods, {"jointed": ends + [joint(n, k, k - 1, kind="ball", at=(length * k, 0, 5)) for k in range(1, n)]}


def rejoined(words, n):
    """The same joints among `n` bodies."""
    wider = lambda mask: None if mask is None else np.pad(mask, (0, n - len(mask)))  # noqa: E731
    return [Jointed(j.joint, wider(j.first), wider(j.second)) for j in words["jointed"]]


def parted(s):
    """How far the ends of a joint are apart at most."""
    state, b = s.joints.state, s.bodies
    held = state.body[:, 1] >= 0
    ends = b.position[state.body[held]] + np.einsum("ksij,ksj->ksi", b.rotation[state.body[held]], state.anchor[held])
    return np.linalg.norm(ends[:, 1] - ends[:, 0], axis=1).max()


class Launches(unittest.TestCase):
    def setUp(self):
        rng = np.random.default_rng(3)
        self.places = rng.uniform(-5, 5, (4000, 3))
        self.still = np.zeros((4000, 3))

    def go(self, **words):
        return launch.velocities(Launch(**words), self.places, self.still, self.still)

    def test_speed_falls_off_as_a_power_of_the_distance_beyond_its_reach(self):
        v = self.go(way="centre", speed=6.0, centre=(1, 0, 0), reach=2.0, fall_off=2.0)
        far = np.linalg.norm(self.places - (1, 0, 0), axis=1)
        np.testing.assert_allclose(np.linalg.norm(v, axis=1), 6.0 * np.minimum(1.0, (2.0 / far) ** 2), rtol=1e-12)
        np.testing.assert_allclose(np.cross(v, self.places - (1, 0, 0)), 0.0, atol=1e-9)

    def test_a_cone_is_filled_evenly_over_its_solid_angle(self):
        for cone in (20.0, 90.0, 180.0):
            v = self.go(speed=2.0, direction=(0, 3, 0), cone=cone)
            np.testing.assert_allclose(np.linalg.norm(v, axis=1), 2.0)
            cosine, least = v[:, 1] / 2.0, np.cos(np.radians(cone))
            self.assertGreaterEqual(cosine.min(), least - 1e-12)
            # the mean of what is even between both ends
            self.assertAlmostEqual(cosine.mean(), 0.5 * (1.0 + least), delta=0.03 * (1.0 - least))
            self.assertLess(np.abs(v[:, [0, 2]].mean(axis=0)).max(), 0.05 * 2.0)

    def test_noise_differs_in_lumps_of_its_size(self):
        near = np.array([[0.0, 0, 0], [0.02, 0, 0]])
        apart = []
        for size in (0.05, 5.0):
            words = Launch(speed=10.0, noise=1.0, noise_size=size)
            v = launch.velocities(words, np.concatenate([near + p for p in self.places[:200]]), np.zeros((400, 3)), 0.0)
            apart.append(np.abs(v[::2, 2] - v[1::2, 2]).mean())
        self.assertGreater(apart[0], 20 * apart[1])

    def test_own_motion_is_kept_in_a_share_and_speed_is_bounded(self):
        carried = np.full((4000, 3), 2.0)
        v = launch.velocities(Launch(speed=0.0, carried=1.5), self.places, self.still, carried)
        np.testing.assert_allclose(v, 3.0)
        v = launch.velocities(Launch(speed=0.0, carried=1.5, most=1.0), self.places, self.still, carried)
        np.testing.assert_allclose(np.linalg.norm(v, axis=1), 1.0)
        w = launch.spins(Launch(spin=7.0), 4000)
        self.assertLessEqual(np.linalg.norm(w, axis=1).max(), 7.0)
        self.assertLess(np.abs(w.mean(axis=0)).max(), 0.3)


class Blasts(unittest.TestCase):
    def test_pressure_and_pulse_are_those_of_the_laws(self):
        # Sadovsky at W = 8 kg, R = 4 m: z = 2 m/kg^(1/3)
        p = blast.overpressure(8.0, np.array([4.0]))[0]
        self.assertAlmostEqual(p, 1e6 * (0.085 / 2 + 0.3 / 4 + 0.8 / 8), delta=1.0)
        self.assertAlmostEqual(blast.reflected(np.array([1.0]))[0], 2.0, delta=1e-4)
        # a very strong wave is reflected eightfold
        self.assertAlmostEqual(blast.reflected(np.array([1e12]))[0] / 1e12, 8.0, delta=1e-3)
        peak, last = blast.reflected(np.array([p]))[0], blast.duration(8.0, np.array([4.0]))[0]
        area = quad(lambda t: peak * (1 - t / last) * np.exp(-blast.DECAY * t / last), 0, last)[0]
        self.assertAlmostEqual(blast.check_cancelled(8.0, np.array([4.0]))[0], area, delta=1e-6 * area)

    def test_it_pushes_a_block_by_the_pulse_on_its_face_and_not_in_the_lee(self):
        d = event(2, [0, 1], what="blast", charge=5.0, launch=Launch(centre=(-8.0, 0.5, 0.5)))
        s = solver([box((0, 0, 0), (1, 1, 1)), box((1.001, 0, 0), (2, 1, 1))], gravity=OUT, directed=[d])
        velocity, spin = s.director.kick(d, s.bodies)
        expected = blast.check_cancelled(5.0, np.array([8.0]))[0] * 1.0 / 2000.0
        # the face is flat and its middle is met head-on
        self.assertAlmostEqual(velocity[0, 0], expected, delta=0.02 * expected)
        np.testing.assert_allclose(spin, 0.0, atol=1e-9)
        # the second stands in its lee: the first covers its only face towards the charge
        self.assertEqual(velocity[1, 0], 0.0)

    def test_faces_of_hulls_are_measured(self):
        s = solver([box((0, 0, 0), (1, 2, 3)), cube()])
        middle, area = blast.faces(s.hulls)
        np.testing.assert_allclose(sorted(area[:6]), [2, 2, 3, 3, 6, 6])
        np.testing.assert_allclose(np.linalg.norm(middle[:6], axis=1).max(), 1.5)
        np.testing.assert_allclose(s.surface, [22.0, 6 * 0.04])


class Events(unittest.TestCase):
    def test_one_at_a_frame_another_after_it(self):
        n = 3
        events = [
            event(n, [1], name="first", frame=7, launch=Launch(speed=5.0)),
            event(n, [2], name="second", when="after", after="first", delay=0.1, launch=Launch(speed=3.0)),
        ]
        s = solver([GROUND, cube(), cube(1.0)], fixed=(0,), directed=events)
        seen = run(s, 0.5, lambda s: (s.time, *s.bodies.velocity[1:, 2]))
        began = [next(t for t, *v in seen if v[k] > 1.0) for k in range(2)]
        self.assertAlmostEqual(began[0], 7 / 24, delta=2 * s.step_dt)
        self.assertAlmostEqual(began[1], 7 / 24 + 0.1, delta=2 * s.step_dt)

    def test_what_is_held_falls_when_it_is_let_go_and_what_is_driven_goes_on(self):
        drive = lambda t: (np.array([[2.0 * t, 0.0, 3.0]]), np.array([[1.0, 0, 0, 0]]))  # noqa: E731
        kind = np.array([DRIVEN, LOOSE])
        go = [event(2, [0, 1], frame=6, what="let go")]
        s = solver([cube(-0.1, -0.1, 2.9), cube(3, 0, 2)], kind=kind, drive=drive, directed=go)
        start = s.bodies.position[1].copy()
        run(s, 0.24)
        np.testing.assert_array_equal(s.bodies.position[1], start)
        run(s, 0.51)
        fallen = 0.5 * G * 0.5**2
        np.testing.assert_allclose(s.bodies.position[1], start - (0, 0, fallen), atol=0.02)
        np.testing.assert_allclose(s.bodies.velocity[0], (2.0, 0, -G * 0.5), atol=0.03)

    def test_touch_load_and_region(self):
        n = 4
        events = [
            event(n, [1], name="touched", when="touch", what="part"),
            event(n, [1], name="loaded", when="load", force=5e3, what="part"),
            event(n, [2], name="there", when="region", low=(-1, -1, 0), high=(3, 1, 0.7), what="part"),
            event(n, [1], by=[3], name="never", when="touch", what="remove"),
        ]
        s = solver([GROUND, cube(), cube(0, 0, 1.0), cube(9.0)], fixed=(0,), directed=events)
        run(s, 1.0)
        touched, loaded, there, never = s.director.moment
        # it falls from 0.8 m above; its centre enters the region at 0.7 m
        self.assertAlmostEqual(touched, np.sqrt(2 * 0.8 / G), delta=0.01)
        self.assertAlmostEqual(there, np.sqrt(2 * 0.4 / G), delta=0.01)
        self.assertAlmostEqual(loaded, touched, delta=0.01)
        self.assertEqual(never, np.inf)

    def test_parts_anchors_removes_and_slows_down(self):
        meshes = [cube(0.2 * k, 0, 1.0) for k in range(6)]
        bonds = RigidSettings(bonds=BondSettings(tension=1e7, shear=1e7), settle=0.0, angular_damping=0.0)
        events = [
            event(6, [3], name="cut", frame=2, what="part"),
            event(6, [0], name="hold", frame=0, what="anchor"),
            event(6, [5], name="gone", frame=3, what="remove"),
        ]
        s = solver(meshes, settings=bonds, directed=events)
        run(s, 0.3)
        self.assertEqual(s.bonds.alive.tolist(), [1, 1, 0, 0, 0])
        self.assertEqual(s.bodies.kind.tolist(), [FIXED, LOOSE, LOOSE, LOOSE, LOOSE, ABSENT])
        self.assertAlmostEqual(s.bodies.position[2, 2], 1.1, delta=1e-3)
        self.assertLess(s.bodies.position[3, 2], 0.9)
        # what is one solid stays one
        cut = [event(3, [0, 1, 2], name="cut", frame=2, what="part")]
        s = solver(meshes[:3], settings=bonds, directed=cut, whole=np.array([0, 0, -1]))
        run(s, 0.2)
        one = (s.bonds.body < 2).all(axis=1)
        self.assertEqual((s.bonds.alive[one].min(), s.bonds.alive[~one].max()), (1, 0))
        slow = [event(1, [0], name="slow", frame=0, what="slow down", top_speed=2.0, over=0.3)]
        s = solver([cube()], velocity=[(10.0, 0, 0)], gravity=OUT, directed=slow)
        run(s, 0.3)
        self.assertAlmostEqual(s.bodies.velocity[0, 0], 2.0 + 8.0 * np.exp(-3.0), delta=0.05)

    def test_what_has_gone_is_set_off_no_more(self):
        gone = event(1, [0], name="gone", frame=2, what="remove")
        off = event(1, [0], name="off", frame=3, launch=Launch(way="centre", speed=5.0))
        s = solver([cube(0, 0, 2)], directed=[gone, off])
        run(s, 0.2)
        self.assertEqual(s.bodies.kind[0], ABSENT)
        self.assertTrue(np.isfinite(s.bodies.velocity).all())

    def test_bricks_that_are_set_off_leave_their_wall(self):
        bricks = generators.brick_wall(2.0, 0.3, 1.5, 0.5, 0.25)
        n = len(bricks)
        off = Launch(way="centre", centre=(0.0, -2.0, 0.75), speed=5.0, spin=2.0)
        s = solver(
            bricks,
            settings=RigidSettings(bonds=BondSettings(scatter=0.0)),
            gravity=OUT,
            directed=[event(n, range(n), launch=off)],
        )
        run(s, 0.05)
        self.assertEqual(s.gauges()["bonds_left"], 0.0)
        self.assertGreater(s.bodies.velocity[:, 1].min(), 3.0)

    def test_restored_amid_events_it_goes_on_to_the_same_bytes(self):
        def scene():
            drive = lambda t: (np.array([[2.0 * t, 0.0, 3.0]]), np.array([[1.0, 0, 0, 0]]))  # noqa: E731
            events = [
                event(2, [0, 1], name="go", frame=5, what="let go"),
                event(2, [1], name="off", when="after", after="go", delay=0.3, launch=Launch(cone=40, spin=3)),
            ]
            joined = [joint(2, 0, 1, kind="rope", at=(0, 0, 3), to=(3.1, 0.1, 2.1), length=3.5)]
            kind = np.array([DRIVEN, LOOSE])
            return solver(
                [cube(-0.1, -0.1, 2.9), cube(3, 0, 2)], kind=kind, drive=drive, directed=events, jointed=joined
            )

        whole, again = scene(), scene()
        run(whole, 0.25)
        state = whole.snapshot()
        run(whole, 0.4)
        again.restore(state)
        run(again, 0.4)
        self.assertEqual(whole.bodies.position.tobytes(), again.bodies.position.tobytes())
        self.assertEqual(whole.director.done.tolist(), [1, 1])

    def test_what_makes_no_sense_is_told(self):
        for words, told in (
            ({"when": "after"}, "follows no event"),
            ({"low": (0, 0, 0), "high": (1, 0, 1)}, "is empty"),
            ({"launch": {"least": 5, "most": 2}}, "swap them"),
        ):
            with self.assertRaisesRegex(ValidationError, told):
                Event(**words)
        with self.assertRaisesRegex(ValidationError, "waits for itself"):
            RigidSettings(events=(Event(name="a", when="after", after="b"), Event(name="b", when="after", after="a")))
        with self.assertRaisesRegex(ValidationError, "to itself"):
            Joint(first="Van", second="Van")


class Joints(unittest.TestCase):
    def test_a_hinge_swings_in_the_time_of_a_physical_pendulum(self):
        turn = matrix(from_degrees((0, 30, 0)))
        rod = transformed(box((-0.05, -0.05, -1), (0.05, 0.05, 0)), turn, np.array([0, 0, 5.0]))
        s = solver([rod], jointed=[joint(1, 0, at=(0, 0, 5), axis=(0, 1, 0))])
        x = np.array(run(s, 5.5, lambda s: s.bodies.position[0, 0]))
        crossings = np.flatnonzero(x[:-1] * x[1:] < 0)
        inertia, arm = (1 + 0.1**2) / 12 + 0.25, 0.5
        period = 4 * np.sqrt(inertia / (G * arm)) * ellipk(np.sin(np.radians(15)) ** 2)
        self.assertAlmostEqual(2 * np.diff(crossings).mean() * s.step_dt, period, delta=0.002 * period)
        self.assertAlmostEqual(np.abs(x[-1400:]).max(), 0.25, delta=0.003)

    def test_a_hinge_stops_at_its_limit(self):
        door = box((0, -0.05, 0), (1, 0.05, 2))
        spin = [(0, 0, 3.0)]
        middle = [(0.0, 1.5, 0)]
        s = solver(
            [door],
            gravity=OUT,
            velocity=middle,
            spin=spin,
            jointed=[joint(1, 0, at=(0, 0, 1), axis=(0, 0, 1), turns=(-10.0, 60.0))],
        )
        turned = run(s, 0.6, lambda s: np.degrees(np.arctan2(s.bodies.rotation[0, 1, 0], s.bodies.rotation[0, 0, 0])))
        self.assertAlmostEqual(max(turned), 60.0, delta=0.5)
        self.assertAlmostEqual(turned[-1], 60.0, delta=0.5)

    def test_a_slider_slides_along_its_axis_to_its_end(self):
        s = solver([cube(-0.1, -0.1)], jointed=[joint(1, 0, kind="slider", at=(0, 0, 0.1), slides=(-0.5, 1.0))])
        down = run(s, 0.3, lambda s: s.bodies.position[0, 2])
        self.assertAlmostEqual(down[-1], 0.1 - 0.5 * G * s.time**2, delta=2e-3)
        run(s, 0.7)
        np.testing.assert_allclose(s.bodies.position[0], (0, 0, -0.4), atol=1e-3)

    def test_a_rope_keeps_its_length_and_breaks_at_its_strength(self):
        for strength in (0.0, 5e3):
            weight = box((2.8, -0.4, 1.6), (3.6, 0.4, 2.4))
            rope = joint(1, 0, kind="rope", at=(3.2, 0, 2.4), to=(0, 0, 6.4), strength=strength)
            s = solver([weight], jointed=[rope])
            reach = lambda s: np.linalg.norm(  # noqa: E731
                s.bodies.position[0] + s.bodies.rotation[0] @ s.joints.state.anchor[0, 0] - (0, 0, 6.4)
            )
            far = run(s, 1.0, reach)
            length = np.hypot(3.2, 4.0)
            if strength:
                self.assertEqual(s.joints.state.alive[0], 0)
                self.assertGreater(far[-1], length + 0.5)
            else:
                self.assertLess(max(far), length + 1e-4)

    def test_a_spring_swings_by_its_stiffness(self):
        s = solver(
            [cube(-0.1, -0.1)],
            jointed=[joint(1, 0, kind="spring", at=(0, 0, 0.1), to=(0, 0, 2.1), stiffness=1000.0)],
        )
        z = np.array(run(s, 2.0, lambda s: s.bodies.position[0, 2]))
        tops = np.flatnonzero((z[1:-1] > z[:-2]) & (z[1:-1] >= z[2:]))
        period = 2 * np.pi * np.sqrt(16.0 / 1000.0)
        self.assertAlmostEqual(np.diff(tops).mean() * s.step_dt, period, delta=0.005 * period)
        self.assertAlmostEqual(z.min(), 0.1 - 2 * 16.0 * G / 1000.0, delta=0.01)

    def test_a_chain_hangs_together(self):
        n = 16
        links = [box((0.2 * k, -0.05, 3), (0.2 * k + 0.2, 0.05, 3.1)) for k in range(n)]
        joined = [joint(n, 0, kind="ball", at=(0, 0, 3.05))]
        joined += [joint(n, k, k - 1, kind="ball", at=(0.2 * k, 0, 3.05)) for k in range(1, n)]
        s = solver(links, jointed=joined)
        run(s, 1.5)
        self.assertLess(parted(s), 1e-6)

    def test_a_chain_whips_as_its_equations_of_motion_say(self):
        # rods of a planar chain let go from the horizontal, against their Lagrangian in the angles, integrated
        n, length, thick = 8, 0.2, 0.02
        rods, words = chain(n, length, thick)
        s = solver(rods, **words)
        k, mass = np.arange(n), 1.0
        inertia = mass * (length**2 + thick**2) / 12.0
        coupled = mass * length**2 * (n - np.maximum.outer(k, k) - 0.5)
        coupled[k, k] = mass * length**2 * (n - 1 - k + 0.25) + inertia
        pull = G * mass * length * (n - k - 0.5)

        def go(_, y):
            apart = y[:n, None] - y[None, :n]
            moment = -(coupled * np.sin(apart)) @ y[n:] ** 2 - pull * np.cos(y[:n])
            return np.concatenate([y[n:], np.linalg.solve(coupled * np.cos(apart), moment)])

        weight, fall = G * s.bodies.mass.sum() * n * length / 2.0, s.bodies.position[:, 2].copy()
        told = []
        for until in (0.4, 0.8, 1.2):
            run(s, until - s.time)
            y = solve_ivp(go, (0.0, s.time), np.zeros(2 * n), rtol=1e-9, atol=1e-9).y[:, -1]
            tip = length * np.array([np.cos(y[:n]).sum(), np.sin(y[:n]).sum()])
            end = s.bodies.position[-1] + s.bodies.rotation[-1] @ [0.5 * length, 0.0, 0.0]
            told.append(np.linalg.norm(end[[0, 2]] - [0.0, fall[0]] - tip))
            energy = s.gauges()["kinetic_energy"] + G * (s.bodies.mass * (s.bodies.position[:, 2] - fall)).sum()
            self.assertLess(abs(energy), 0.002 * weight)
        # half a substep early; what little is off grows in the crack of the whip, at 0.7 s
        self.assertLess(told[0], 1e-3, told)
        self.assertLess(max(told), 0.02)
        self.assertLess(parted(s), 1e-6)

    def test_a_light_chain_carries_a_ball_thousands_of_times_heavier(self):
        n, length = 12, 0.2
        links, words = chain(n, length, 0.04)
        at = n * length
        s = solver(
            [*links, box((at, -0.6, 4.4), (at + 1.2, 0.6, 5.6))],
            **(words | {"jointed": [*rejoined(words, n + 1), joint(n + 1, n, n - 1, kind="ball", at=(at, 0, 5.0))]}),
        )
        self.assertGreater(s.bodies.mass[-1], 5000 * s.bodies.mass[0])
        weight = G * (s.bodies.mass * s.bodies.position[:, 0]).sum()
        run(s, 1.5)
        energy = s.gauges()["kinetic_energy"] + G * (s.bodies.mass * (s.bodies.position[:, 2] - 5.0)).sum()
        self.assertLess(abs(energy), 0.003 * weight)
        self.assertLess(parted(s), 1e-6)

    def test_what_is_held_more_than_once_shares_the_load_evenly(self):
        # a beam of two welded between two walls: rows that say the same twice push nothing against each other
        blocks = [box((0.5 * k, -0.1, 0), (0.5 * k + 0.5, 0.1, 0.1)) for k in range(2)]
        ends = [joint(2, 0, kind="weld", at=(0, 0, 0.05)), joint(2, 1, kind="weld", at=(1, 0, 0.05))]
        s = solver(blocks, jointed=[*ends, joint(2, 1, 0, kind="weld", at=(0.5, 0, 0.05))])
        run(s, 0.2)
        half = 0.5 * G * s.bodies.mass.sum()
        np.testing.assert_allclose(s.joints.state.force, [half, half, 0.0], atol=0.01 * half)

    def test_a_hub_of_many_is_swept_and_a_chain_on_what_is_fixed_is_not(self):
        n = 70
        rods = [box((k, -0.05, 0), (k + 0.5, 0.05, 0.1)) for k in range(n)]
        hub = [joint(n, k, 0, kind="ball", at=(k, 0, 0)) for k in range(1, n)]
        self.assertEqual(solver(rods, jointed=hub, gravity=OUT).joints.state.at_once.sum(), 0)
        s = solver(rods, jointed=hub, gravity=OUT, fixed=(0,))
        s.step(s.step_dt)
        self.assertEqual(s.joints.state.at_once.sum(), n - 1)

    def test_joints_keep_the_momenta_of_what_is_free(self):
        first, second = cube(), cube(0.25)
        for kind in ("weld", "hinge", "ball", "slider", "spring", "rope"):
            ends = (
                {"at": (0.1, 0.1, 0.1), "to": (0.35, 0.1, 0.1)}
                if kind in ("spring", "rope")
                else {"at": (0.2, 0.1, 0.1)}
            )
            s = solver(
                [first, second],
                gravity=OUT,
                velocity=[(0, 1, 0), (0, -1, 0.5)],
                spin=[(1, 2, 3), (-2, 0, 1)],
                jointed=[joint(2, 0, 1, kind=kind, **ends)],
            )
            before, energy = momentum(s), s.gauges()["kinetic_energy"]
            run(s, 0.5)
            for a, b in zip(before, momentum(s)):
                # the first blow finds them where they do not yet go
                np.testing.assert_allclose(a, b, atol=0.03, err_msg=kind)
            if kind != "spring":
                self.assertLess(s.gauges()["kinetic_energy"], 1.01 * energy)

    def test_what_is_joined_to_one_part_of_a_solid_meets_none_of_it(self):
        # an arm between the cheeks of a fork of two parts, which it stands in
        fork = [box((-0.3, -0.3, 0), (0.3, -0.05, 1)), box((-0.3, 0.05, 0), (0.3, 0.3, 1))]
        arm = box((-0.1, -0.1, 0.4), (1.0, 0.1, 0.6))
        s = solver(
            [*fork, arm],
            fixed=(0, 1),
            whole=np.array([0, 0, -1]),
            jointed=[joint(3, 2, 0, at=(0, 0, 0.5), axis=(0, 1, 0))],
        )
        run(s, 0.3)
        self.assertEqual(len(s.contacts.pairs.gap), 0)
        self.assertGreater(abs(s.bodies.spin[2, 1]), 1.0)

    def test_a_cart_rolls_on_its_wheels(self):
        wheels = [(x, y) for x in (-0.6, 0.6) for y in (-0.5, 0.5)]
        deck = box((-0.9, -0.4, 0.25), (0.9, 0.4, 0.45))
        tyres = [
            transformed(
                generators.prism(0.2, 0.1, 32)[0], matrix(from_degrees((90, 0, 0))), np.array([x, y + 0.05, 0.2])
            )
            for x, y in wheels
        ]
        joined = [joint(6, 2 + k, 1, at=(x, y, 0.2), axis=(0, 1, 0)) for k, (x, y) in enumerate(wheels)]
        speed = np.array([(0, 0, 0)] + [(4.0, 0, 0)] * 5, float)
        spin = np.array([(0, 0, 0), (0, 0, 0)] + [(0, 20.0, 0)] * 4, float)
        s = solver([GROUND, deck, *tyres], fixed=(0,), velocity=speed, spin=spin, jointed=joined)
        run(s, 1.0)
        self.assertGreater(s.bodies.position[1, 0], 3.4)
        self.assertAlmostEqual(s.bodies.position[1, 2], 0.35, delta=0.02)


class Air(unittest.TestCase):
    def test_a_falling_block_comes_to_the_speed_of_its_drag(self):
        # m g = c/2 rho A v^2, A a quarter of its faces
        block = cube(0, 0, 0, 0.4)
        s = solver([block], settings=FREE.model_copy(update={"air": 50.0, "drag": 1.0}), density=500.0)
        run(s, 3.0)
        expected = np.sqrt(2 * 500 * 0.4**3 * G / (50.0 * 6 * 0.16 / 4))
        self.assertAlmostEqual(-s.bodies.velocity[0, 2], expected, delta=0.01 * expected)

    def test_a_region_has_its_own_gravity(self):
        lift = Region(low=(-1, -1, 0), high=(1, 1, 10), pull=(0, 0, 2.0), until=12)
        settings = FREE.model_copy(update={"regions": (lift,)})
        s = solver([cube(), cube(5.0)], settings=settings)
        run(s, 0.5)
        np.testing.assert_allclose(s.bodies.velocity[:, 2], (2.0 * 0.5, -G * 0.5), atol=0.02)
        run(s, 0.25)
        # the region is gone after half a second and a frame
        self.assertAlmostEqual(s.bodies.velocity[0, 2], 2.0 * 13 / 24 - G * (0.75 - 13 / 24), delta=0.03)

    def test_limits_ease_in(self):
        hard = FREE.model_copy(update={"top_speed": 5.0})
        speeds = []
        for ease in (0.0, 0.2):
            s = solver([cube()], gravity=OUT, velocity=[(15.0, 0, 0)], settings=hard.model_copy(update={"ease": ease}))
            run(s, 0.2)
            speeds.append(s.bodies.velocity[0, 0])
        self.assertAlmostEqual(speeds[0], 5.0, delta=1e-9)
        self.assertAlmostEqual(speeds[1], 5.0 + 10.0 / np.e, delta=0.1)


class Gauges(unittest.TestCase):
    def test_energy_with_height_stays_and_what_falls_out_is_counted(self):
        s = solver([cube(0, 0, 2.0), box((-1, -1, -0.5), (-0.5, -0.5, 0))], fixed=(1,))
        before = s.gauges()["energy"]
        self.assertAlmostEqual(before, 16.0 * G * 0.1, delta=1e-6)
        run(s, 0.5)
        self.assertAlmostEqual(s.gauges()["energy"], before, delta=1e-3 * before)
        self.assertEqual(s.gauges()["lost"], 0.0)
        run(s, 0.5)
        self.assertEqual(s.gauges()["lost"], 1.0)
