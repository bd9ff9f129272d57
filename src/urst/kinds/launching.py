"""The settings of a launch as the questions of a recipe show them."""

from urst.kinds.questions import DEGREES, METRES, PERCENT, SPEED, Field

Only = tuple[tuple[str, tuple[str, ...]], ...]


def fields(path: str, only: Only = (), placed: Only | None = None) -> tuple[Field, ...]:
    """Return the fields of a launch.

    Parameters
    ----------
    path : str
        Of the launch among the settings, as `events.*.launch`.
    only : tuple
        Where they are shown, see `Field.only`.
    placed : tuple, optional
        Where its centre is, if elsewhere as well.
    """
    name = path.rsplit(".", 1)[-1]
    return (
        Field(f"{path}.way", "Direction from", only=only),
        Field(f"{path}.speed", "Speed", only=only, **SPEED),
        Field(f"{path}.direction", "Direction", only=(*only, (f"{name}.way", ("direction",)))),
        Field(f"{path}.centre", "Centre", only=only if placed is None else placed, **METRES),
        Field(f"{path}.reach", "Full speed within", only=only, **METRES),
        Field(f"{path}.fall_off", "Fall-off exponent", only=only),
        Field(f"{path}.cone", "Cone angle", only=only, **DEGREES),
        Field(f"{path}.noise", "Speed noise", only=only, **PERCENT),
        Field(f"{path}.noise_size", "Noise size", only=only, **METRES),
        Field(f"{path}.carried", "Inherited velocity", only=only, **PERCENT),
        Field(f"{path}.least", "Minimum speed", only=only, **SPEED),
        Field(f"{path}.most", "Maximum speed", only=only, **SPEED),
        Field(f"{path}.seed", "Seed", only=only),
    )
