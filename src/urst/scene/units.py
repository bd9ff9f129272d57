"""Numbers as people write them: `35 cm`, `2.4 t/m3`, `0.35 MPa`."""

import math
import re

from urst.errors import BadValue

#: factor to SI for each accepted unit, by the SI unit a field is kept in
FACTORS: dict[str, dict[str, float]] = {
    "m": {"m": 1, "cm": 1e-2, "mm": 1e-3, "km": 1e3, "ft": 0.3048, "in": 0.0254},
    "s": {"s": 1, "ms": 1e-3, "min": 60},
    "kg": {"kg": 1, "g": 1e-3, "t": 1e3},
    "N": {"N": 1, "kN": 1e3, "MN": 1e6},
    "kg/m3": {"kg/m3": 1, "t/m3": 1e3, "g/cm3": 1e3},
    "Pa": {"Pa": 1, "kPa": 1e3, "MPa": 1e6, "GPa": 1e9},
    "m/s": {"m/s": 1, "km/h": 1 / 3.6, "cm/s": 1e-2},
    "m/s2": {"m/s2": 1, "g": 9.80665},
    "rad/s": {"rad/s": 1, "deg/s": math.pi / 180, "rpm": math.pi / 30},
    "deg": {"deg": 1, "rad": 180 / math.pi},
    "K": {"K": 1},
    "1/s": {"1/s": 1},
    "1/m2": {"1/m2": 1},
    "%": {"%": 1},
}

_NUMBER = re.compile(r"^\s*([-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?)\s*(.*?)\s*$")


def parse_number(text: str, unit: str = "", field: str = "value") -> float:
    """Read a number with an optional unit and return it in `unit`.

    Raises
    ------
    BadValue
        If it is no finite number or the unit is of another kind.
    """
    match = _NUMBER.match(text.replace("−", "-").replace("²", "2").replace("³", "3"))
    if not match:
        what = f"'{text.strip()}' is not a number" if text.strip() else "it is empty"
        raise BadValue(f"{field}: {what}; write a number like 0.35{' ' + unit if unit else ''}.")
    number, given = float(match[1]), match[2]
    if not math.isfinite(number):
        raise BadValue(f"{field}: '{text.strip()}' is too large to be a number here.")
    if not given or given == unit:
        return number
    factors = next((family for family in FACTORS.values() if unit in family), {})
    if given not in factors:
        allowed = ", ".join(factors) or "no unit"
        raise BadValue(f"{field}: the unit '{given}' does not fit; use {allowed}.")
    return number * factors[given] / factors[unit]
