"""How large the numbers of a document may be: far beyond any set, and not so far that arithmetic ends there."""

from typing import Annotated

from pydantic import Field

#: a coordinate [m], or along an axis a speed [m/s], a turn [deg] and the like
Number = Annotated[float, Field(ge=-1e6, le=1e6)]
Vector = tuple[Number, Number, Number]
Frame = Annotated[int, Field(ge=-1_000_000, le=1_000_000)]
