"""The Tidewater Granary, first draft: a crane's counterweight swings through a brick wall on a stone quay."""

import numpy as np
from scipy.integrate import solve_ivp

from urst.scene.pieces import Key
from urst.shot.document import Shot, parse

_PIVOT_HEIGHT = 9.0
ROPE = 6.7
BALL = 0.55
_TOP_ANGLE = 50.0
_START_ANGLE = 30.0


def swing(start: int, end: int, rate: float, every: int = 2) -> list[tuple[int, float]]:
    """Return frames and angles [rad] of the pendulum theta'' = -g/L sin(theta), let go at the top angle long before.

    Parameters
    ----------
    start, end : int
        Frames.
    rate : float
        Frames a second.
    every : int
        Frames between two.
    """
    spin = -np.sqrt(2 * 9.81 / ROPE * (np.cos(np.radians(_START_ANGLE)) - np.cos(np.radians(_TOP_ANGLE))))
    frames = np.arange(start, end + every, every)
    path = solve_ivp(
        lambda t, y: (y[1], -9.81 / ROPE * np.sin(y[0])),
        (0, (frames[-1] - start) / rate + 1e-9),
        (np.radians(_START_ANGLE), spin),
        t_eval=(frames - start) / rate,
        rtol=1e-9,
        atol=1e-9,
    )
    return [(int(f), float(a)) for f, a in zip(frames, path.y[0])]


def touching(every: int = 1) -> int:
    """Return the first frame, of every so many, at which the counterweight would be in the wall."""
    return next(frame for frame, angle in swing(1, 96, 24.0, every) if ROPE * np.sin(angle) < 0.15 + BALL)


def hanging(angles: list[tuple[int, float]], below: float) -> list[Key]:
    """Keys of something that hangs on the rope with its base `below` metres under the rope's end.

    Parameters
    ----------
    angles : list of (frame, angle)
        As `swing` gives it.
    below : float [m]
    """
    keys = []
    for frame, angle in angles:
        reach = ROPE + below
        y, z = reach * np.sin(angle), _PIVOT_HEIGHT - reach * np.cos(angle)
        keys.append(
            Key(frame=frame, position=(0.2, round(y, 3), round(z, 3)), rotation=(round(np.degrees(angle), 2), 0, 0))
        )
    return keys


def along(down: float) -> tuple[float, float, float]:
    """Return a place on the cable as it hangs at the start, so many metres down."""
    angle = np.radians(_START_ANGLE)
    return 0.2, round(down * np.sin(angle), 4), round(_PIVOT_HEIGHT - down * np.cos(angle), 4)


def pendulum(angles: list[tuple[int, float]]) -> list[dict]:
    """Return the counterweight and its cable, driven as `swing` has it."""
    driven = {"material": "steel", "motion": "driven"}
    return [
        {"name": "Counterweight", "shape": {"kind": "ball", "radius": BALL, "rings": 8}, "keys": hanging(angles, BALL)}
        | driven,
        {
            "name": "Cable",
            "shape": {"kind": "drum", "radius": 0.035, "height": ROPE - BALL + 0.05, "sides": 6},
            "keys": hanging(angles, -BALL + 0.05),
        }
        | driven,
    ]


def shot(*, fragments: int = 420, cell_size: float = 0.15, end: int = 96, seed: int = 2) -> Shot:
    """Return the shot; the arguments choose its quality."""
    angles, touches = swing(1, end, 24.0), touching()
    hit = touching(2)
    pieces = [
        {
            "name": "Quay",
            "shape": {"kind": "box", "width": 16, "depth": 11, "height": 2},
            "position": (0, 0.5, -2),
            "material": "stone",
            "motion": "fixed",
        },
        {
            "name": "Basin floor",
            "shape": {"kind": "box", "width": 80, "depth": 80, "height": 0.5},
            "position": (0, -4, -2.5),
            "material": "stone",
            "motion": "fixed",
            "bonded": False,
        },
        {
            "name": "Pier, west",
            "shape": {"kind": "box", "width": 0.5, "depth": 0.5, "height": 4.2},
            "position": (-3.25, 0, 0),
            "material": "concrete",
            "motion": "fixed",
        },
        {
            "name": "Pier, east",
            "shape": {"kind": "box", "width": 0.5, "depth": 0.5, "height": 4.2},
            "position": (3.25, 0, 0),
            "material": "concrete",
            "motion": "fixed",
        },
        {
            "name": "Wall",
            "shape": {
                "kind": "brick wall",
                "width": 6,
                "depth": 0.3,
                "height": 4,
                "brick_length": 0.5,
                "course_height": 0.25,
            },
            "material": "brick",
        },
        *pendulum(angles),
        *(
            {
                "name": f"Crate {n}",
                "shape": {"kind": "box", "width": 0.7, "depth": 0.7, "height": 0.6},
                "position": at,
                "rotation": (0, 0, turn),
                "material": "timber",
                "bonded": False,
            }
            for n, (at, turn) in enumerate([((-1.7, -2.3, 0), 12), ((-0.88, -2.5, 0), -7), ((-1.35, -2.4, 0.6), 24)], 1)
        ),
        *(
            {
                "name": f"Drum {n}",
                "shape": {"kind": "drum", "radius": 0.29, "height": 0.88},
                "position": at,
                "material": "drum steel",
                "bonded": False,
            }
            for n, at in enumerate([(1.5, -2.2, 0), (2.15, -2.35, 0)], 1)
        ),
    ]
    layers = [
        {
            "id": "break",
            "name": "Break",
            "kind": "break",
            "settings": {
                "pieces": ("Wall",),
                "pattern": "clustered",
                "count": fragments,
                "focus": (0.2, 0, 2.2),
                "focus_radius": 0.8,
                "seed": seed,
            },
        },
        {
            "id": "fall",
            "name": "Fall",
            "kind": "fall",
            "reads": ["break"],
            "settings": {
                "top_spin": 20,
                "bonds": {"tension": 0.35e6, "shear": 0.5e6, "scatter": 0.3},
                "events": [
                    {
                        "name": "let go",
                        "what": "let go",
                        "of": ("Counterweight", "Cable"),
                        "when": "frame",
                        "frame": touches - 1,
                    }
                ],
                "joints": [
                    {"name": "hook", "kind": "ball", "first": "Cable", "second": "", "at": along(0.0)},
                    {
                        "name": "shackle",
                        "kind": "ball",
                        "first": "Counterweight",
                        "second": "Cable",
                        "at": along(ROPE - BALL),
                    },
                ],
            },
        },
        {
            "id": "shed",
            "name": "Shed",
            "kind": "shed",
            "reads": ["fall"],
            "settings": {"chips": 260, "dust": 120, "puff_mass": 0.0006},
        },
        {
            "id": "billow",
            "name": "Billow",
            "kind": "billow",
            "reads": ["fall", "shed"],
            "settings": {"cell_size": cell_size, "low": (-8.0, -12.5, -2.2), "high": (8.0, 5.0, 6.2)},
        },
    ]
    return parse(
        {
            "name": "Granary",
            "note": "counterweight strike",
            "start": 1,
            "end": end,
            "pieces": pieces,
            "layers": layers,
            "cues": [{"name": "hit", "frame": hit}],
            "cameras": [{"eye": (7.2, -10.2, 3.4), "target": (0, -0.6, 1.7), "lens": 32}],
        }
    )


def full() -> Shot:
    """The same in many more pieces, as it would be handed over."""
    data = shot(fragments=3200).model_dump(mode="json")
    return parse(data | {"name": "Granary, full", "note": "3,200 fragments; takes minutes"})


def coupled(**quality) -> Shot:
    """Return the same strike with wall, counterweight and debris in the air they move, each acting on the other.

    The keyword arguments are those of `shot`.
    """
    pairs = [{"first": "fall", "second": "billow"}, {"first": "shed", "second": "billow"}]
    data = shot(**quality).model_dump(mode="json")
    return parse(
        data | {"name": "Granary in air", "note": "wall, debris and air act on each other", "couplings": pairs}
    )
