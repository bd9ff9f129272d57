"""What every part of the document has in common."""

from typing import Annotated

from pydantic import BaseModel, ConfigDict, Field

#: a tenth of a millimetre is less than anything that is built
Metres = Annotated[float, Field(ge=1e-4, le=1e5)]
Name = Annotated[str, Field(min_length=1, max_length=80)]
Slug = Annotated[str, Field(pattern=r"^[a-z][a-z0-9-]{0,39}$")]


class Part(BaseModel):
    """A validated, unchanging piece of the document, in SI units."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)
