"""The shot without its layers: its set, its clock, its cameras and its named values."""

from functools import cached_property
from typing import Annotated, Any

from pydantic import Field, model_validator

from urst.core.curves.clock import Clock
from urst.core.curves.varies import Number, Varies
from urst.core.ranges import Frame, Vector
from urst.scene.cameras import Camera, Picture
from urst.scene.part import Name, Part
from urst.scene.pieces import SetPiece
from urst.scene.taking_part import TakesPart
from urst.scene.values import NamedValue, Use

#: set pieces of a shot at most
MOST_PIECES = 10_000
#: and bodies, each brick of a wall being one
MOST_BODIES = 100_000
#: frames of a shot at most, and places of driven pieces over all of them
MOST_FRAMES, MOST_PLACES = 20_000, 2_000_000


class Cue(Part):
    """A named moment."""

    name: Name
    frame: Frame


class World(Part):
    """Range, set, camera: all that a layer of any kind may depend on beside other layers."""

    name: Name
    note: str = Field("", max_length=2000)
    start: int = Field(1, ge=-100_000, le=1_000_000, description="First frame")
    end: int = Field(96, ge=-100_000, le=1_000_000, description="Last frame")
    rate: float = Field(24.0, gt=0, le=1000, description="Frames a second [1/s]")
    time_scale: Annotated[Number, Varies(("frame",), 0.001, 100)] = Field(
        1.0, description="How fast time goes; all layers obey it; 1 is full speed, 0.33 slows by three"
    )
    played: Annotated[Number, Varies(("frame",), 0.02, 50)] = Field(
        1.0,
        description="How fast baked frames are played in movies: 0.33 stretches by three, 0.02 holds",
    )
    gravity: Vector = Field((0.0, 0.0, -9.81), description="[m/s2]")
    values: tuple[NamedValue, ...] = Field(
        (), max_length=1000, description="Numbers with a name, that settings may take"
    )
    uses: tuple[Use, ...] = Field((), max_length=5000, description="Which settings take which of them")
    pieces: tuple[SetPiece, ...] = Field((), max_length=MOST_PIECES)
    taking_part: tuple[TakesPart, ...] = Field(
        (), max_length=MOST_PIECES, description="What pieces stop, when, and whether they are seen"
    )
    cues: tuple[Cue, ...] = Field((), max_length=1000)
    cameras: tuple[Camera, ...] = Field((Camera(),), min_length=1, max_length=200)
    through: Name = Field("main", description="The camera that pictures are taken through")
    picture: Picture = Picture()

    @model_validator(mode="after")
    def _sound(self) -> Any:
        if self.end < self.start:
            raise ValueError(f"end {self.end} is before start {self.start}: the last frame must not precede the first")
        if len(self.frames()) > MOST_FRAMES:
            raise ValueError(
                f"the shot has {len(self.frames()):,} frames, more than {MOST_FRAMES:,}: let it end earlier, or cut "
                "it into several"
            )
        driven = sum(p.motion == "driven" for p in self.pieces)
        if driven * len(self.frames()) > MOST_PLACES:
            raise ValueError(
                f"{driven:,} driven pieces over {len(self.frames()):,} frames are too many: drive fewer, or let the "
                "shot end earlier"
            )
        distinct([p.name for p in self.pieces], "set pieces")
        bodies = sum(p.shape.bricks() if p.shape.kind == "brick wall" else 1 for p in self.pieces)
        if bodies > MOST_BODIES:
            raise ValueError(
                f"the set has {bodies:,.0f} bodies, more than {MOST_BODIES:,}: use larger bricks or fewer pieces"
            )
        distinct([v.name for v in self.values], "named values")
        distinct([c.name for c in self.cameras], "cameras")
        if self.through not in (c.name for c in self.cameras):
            names = ", ".join(c.name for c in self.cameras)
            raise ValueError(f"it is seen through '{self.through}', which is no camera; there are {names}")
        distinct([t.of for t in self.taking_part], "rows of who takes part")
        known = {p.name for p in self.pieces} | {t for p in self.pieces for t in p.tags}
        for row in self.taking_part:
            if row.of not in known:
                raise ValueError(
                    f"'{row.of}' takes part but is no set piece and no tag: name one of the set, or remove the row"
                )
        return self

    @property
    def camera(self) -> Camera:
        """The camera that pictures are taken through."""
        return next(c for c in self.cameras if c.name == self.through)

    def frames(self) -> range:
        """Return the frame numbers."""
        return range(self.start, self.end + 1)

    def clock(self) -> Clock:
        """Return what tells when each frame is."""
        return Clock(self.start, self.rate, self.time_scale)

    def piece(self, name: str) -> SetPiece | None:
        """Return the piece of a name, None if there is none."""
        return next((p for p in self.pieces if p.name == name), None)

    def part_of(self, piece: SetPiece) -> TakesPart:
        """Return how a piece takes part: by its own row, else by that of the first of its tags that has one."""
        found = next((self.rows[name] for name in (piece.name, *piece.tags) if name in self.rows), None)
        # as the model would make it, which is asked for thousands of times
        return found or TakesPart.model_construct(of=piece.name)

    @cached_property
    def rows(self) -> dict[str, TakesPart]:
        """The rows of who takes part, by whom they are of."""
        return {t.of: t for t in self.taking_part}


def distinct(names: list[str], what: str) -> None:
    """Refuse names that come twice.

    Raises
    ------
    ValueError
    """
    seen = set()
    for name in names:
        if name in seen:
            raise ValueError(f"two {what} are called '{name}': names must differ")
        seen.add(name)
