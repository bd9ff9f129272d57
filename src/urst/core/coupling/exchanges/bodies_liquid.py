"""Rigid bodies and the liquid they float in, duck into and throw up.

A step of the liquid begins with its pressure, solved together with how bodies give way to it. These carry that as a
steady force while their contacts and bonds are solved, in which what goes along with a body makes it heavier. What
contacts and bonds did beside what was foreseen the liquid then takes up, giving way with the bodies, before it moves.
"""

from typing import Any

import numpy as np

from urst.core.bodies.nodes import NO_NODE, Nodes
from urst.core.checkpoint import Checkpointed
from urst.core.coupling.ports import Bodies, Liquid

#: fraction of what a body displaces that is taken to go along with it where something else pushes it: that of a ball
#: (Lamb 1932, sec. 92). The pressure solve knows better, and puts right what contacts made of it
ALONG = 0.5
#: what others did is passed on to the liquid where it changed a speed by more than this fraction of what gravity adds
#: in a step
HEARD = 1e-3


class Between(Checkpointed):
    """The bodies of one solver in a liquid.

    Parameters
    ----------
    bodies : Bodies
    liquid : Liquid
    readers : list
        What others take of the bodies; one of these is on the liquid's grid.
    forth : float
        How much faster than they go bodies push the liquid; 1 is physical.
    back : float
        How strongly the liquid pushes bodies; 1 is physical.
    """

    STATE = ("steady", "before")

    def __init__(self, bodies: Bodies, liquid: Liquid, readers: list, forth: float, back: float) -> None:
        self.bodies, self.liquid, self.forth, self.back, self.goes_with = bodies, liquid, forth, back, liquid
        boundaries = liquid.boundaries()
        firsts = np.concatenate([[0], np.cumsum([len(b) for b in boundaries])]).astype(int)
        mine = [getattr(r, "boundary", r) for r in readers]
        met = [n for n, b in enumerate(boundaries) if any(b is m for m in mine)]
        self.boundary = boundaries[met[0]] if met else None
        self.place = slice(int(firsts[met[0]]), int(firsts[met[0] + 1])) if met else slice(0, 0)
        n = self.place.stop - self.place.start
        self.steady, self.before = np.zeros((n, 6)), np.zeros((n, 6))
        """force and torque of contacts and bonds on each body in the last round, so far as it lasts, and all of it
        [N], [N m]"""
        self.nodes: Nodes | None = None
        self.ballast: np.ndarray = np.ones(0)
        self.wet = np.zeros(n)
        self.foreseen = np.zeros((n, 6))
        """velocities and spins of the bodies after the round, if contacts and bonds do as foreseen"""
        if not isinstance(liquid.afloat, AllAfloat):
            liquid.afloat = AllAfloat(liquid, int(firsts[-1]))
        self.all: AllAfloat = liquid.afloat
        self.all.parts.append(self)

    @property
    def leads(self) -> Any:
        """The solver whose steps rounds are; its pressure is found before the others are stepped."""
        return self.liquid

    def begin(self, dt: float) -> None:
        """Have the pressure of a round solved, with the bodies as they are now."""
        if self.boundary is not None:
            poses = self.bodies.outputs()
            self.boundary.update(poses, poses, self.bodies.time - dt, dt)
        if self.all.parts[-1] is self:
            self.liquid.press(dt)

    def act(self, dt: float) -> None:
        """Pass on what contacts and bonds did over the round."""
        if self.all.parts[-1] is self:
            self.all.respond(dt)

    def predicted(self, dt: float) -> Nodes:
        """Return how the bodies would go over `dt` seconds without the liquid, contacts doing as they did."""
        found, n = self.bodies.nodes(), len(self.foreseen)
        self.nodes = nodes = found._replace(node=found.node[:n], loose=found.loose[:n])
        nodes.velocity[found.inverse_mass > 0.0, :3] += dt * self.bodies.gravity
        nodes.velocity[:] += nodes.moved(nodes.gathered(dt * self.steady, self.bodies.motion.position))
        return nodes

    def take(self, impulse: np.ndarray, wet: np.ndarray, dt: float) -> None:
        """Bear what the liquid does over `dt` seconds.

        Parameters
        ----------
        impulse : (n, 6) float [N s], [N m s]
        wet : (n,) float
            Fraction of each body that is in the liquid.
        dt : float [s]
        """
        nodes, motion = self.nodes, self.bodies.motion
        assert nodes is not None
        position, self.wet = motion.position, wet
        along = ALONG * self.liquid.density * wet * self.bodies.volume
        self.ballast = 1.0 + nodes.inverse_mass * np.bincount(nodes.node, along, minlength=len(nodes.centre))
        # contacts come again by themselves, against what goes along as well
        force = impulse / dt + (1.0 - 1.0 / self.ballast[nodes.node])[:, None] * self.steady
        self.bodies.apply_steady_force(force, along)
        predicted = nodes.velocity + nodes.moved(nodes.gathered(impulse, position))
        self.foreseen = np.concatenate(nodes.of_bodies(predicted, position), axis=1)

    def contact_impulses(self, dt: float) -> np.ndarray:
        """Return what contacts and bonds did to the nodes beside what was foreseen, (k, 6) [N s], [N m s], and note
        what lasts."""
        nodes, motion = self.nodes, self.bodies.motion
        assert nodes is not None
        moving = self.bodies.inverse_mass()[:, None] > 0.0
        change = np.where(moving, np.concatenate([motion.velocity, motion.spin], axis=1) - self.foreseen, 0.0)
        turn = motion.rotation
        inertia = turn @ motion.inertia @ np.transpose(turn, (0, 2, 1))
        did = np.concatenate(
            [motion.mass[:, None] * change[:, :3], np.einsum("nij,nj->ni", inertia, change[:, 3:])], axis=1
        )
        did *= self.ballast[nodes.node][:, None]
        now = self.steady + did / dt
        lasts = now * self.before > 0.0
        self.steady = np.where(lasts, np.sign(now) * np.minimum(np.abs(now), np.abs(self.before)), 0.0)
        self.before = now
        return nodes.gathered(did, motion.position)

    def give(self, change: np.ndarray) -> None:
        """Change the velocities of the nodes, (k, 6) [m/s], [rad/s]."""
        nodes, motion = self.nodes, self.bodies.motion
        assert nodes is not None
        velocity, spin = nodes.of_bodies(change, motion.position)
        moving = self.bodies.inverse_mass()[:, None] > 0.0
        motion.velocity[:] += np.where(moving, velocity, 0.0)
        motion.spin[:] += np.where(moving, spin, 0.0)

    def gauges(self) -> dict[str, float]:
        """Return what got lost on the way, as a fraction of all that passed, and how many bodies lighter than the
        liquid are in it."""
        light = self.bodies.motion.mass < self.liquid.density * self.bodies.volume
        return {"momentum_lost": self.liquid.momentum_lost(), "afloat": float((light & (self.wet > 0.0)).sum())}


class AllAfloat:
    """All bodies that a liquid and they act on each other, as what its pressure pushes.

    Parameters
    ----------
    liquid : Liquid
    total : int
        Bodies on its grid.
    """

    def __init__(self, liquid: Liquid, total: int) -> None:
        self.liquid, self.total = liquid, total
        self.parts: list[Between] = []

    def nodes(self, dt: float) -> Nodes:
        """Return how they would go in the next `dt` seconds without the liquid."""
        node, loose, each, first = np.full(self.total, NO_NODE), np.zeros(self.total, bool), [], 0
        for part in self.parts:
            own = part.predicted(dt)
            node[part.place], loose[part.place] = first + own.node, own.loose
            first += len(own.centre)
            each.append(
                own._replace(
                    inverse_mass=part.back * own.inverse_mass,
                    inverse_inertia=part.back * own.inverse_inertia,
                    velocity=part.forth * own.velocity,
                )
            )
        chain = lambda name: np.concatenate([getattr(n, name) for n in each])  # noqa: E731
        return Nodes(node, loose, *(chain(n) for n in ("centre", "inverse_mass", "inverse_inertia", "velocity")))

    def take(self, impulse: np.ndarray, dt: float) -> None:
        """Pass on to each solver what the liquid does to its bodies.

        Parameters
        ----------
        impulse : (n, 6) float [N s], [N m s]
        dt : float [s]
        """
        wet = self.liquid.immersed()
        for part in self.parts:
            part.take(part.back * impulse[part.place], wet[part.place], dt)

    def respond(self, dt: float) -> None:
        """Let the liquid give way to what contacts and bonds did to the bodies over `dt` seconds, and the bodies with
        it.

        Parameters
        ----------
        dt : float [s]
        """
        least = HEARD * dt * max(float(np.linalg.norm(self.liquid.gravity)), 1.0)
        free, seen, counts = [], [], []
        for part in self.parts:
            nodes = part.nodes
            assert nodes is not None
            impulse = part.contact_impulses(dt)
            free.append(nodes.moved(impulse))
            seen.append(free[-1] / part.ballast[:, None])
            counts.append(len(nodes.centre))
        change = np.concatenate(free)
        wet = np.concatenate(
            [np.bincount(p.nodes.node, p.wet, minlength=c) > 0.0 for p, c in zip(self.parts, counts) if p.nodes]
        )
        change[~wet] = 0.0
        if np.abs(change).max(initial=0.0) < least:
            return
        strength = np.repeat([p.forth for p in self.parts], counts)[:, None]
        back = self.liquid.respond(strength * change)
        at = 0
        for part, did, saw, count in zip(self.parts, free, seen, counts):
            some = wet[at : at + count, None]
            part.give(np.where(some, did + back[at : at + count] - saw, 0.0))
            at += count
