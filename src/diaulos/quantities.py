"""Quantities as people type and read them: `4.2 H`, `500k`, `180 pF`, `0.022 uF`, `20 ft`.

Text becomes a number as early as possible and text again as late as possible. A number
without a unit is in the unit that the field shows. Parsing raises InputError with what
was wanted and the likely slip.
"""

from __future__ import annotations

import math
import re

from diaulos.errors import InputError
from diaulos.records import dataclass

PREFIXES = {"p": 1e-12, "n": 1e-9, "u": 1e-6, "µ": 1e-6, "μ": 1e-6, "m": 1e-3, "": 1.0,
            "k": 1e3, "K": 1e3, "M": 1e6, "G": 1e9}  # fmt: skip
SIGNS = {"ohm": "\N{GREEK CAPITAL LETTER OMEGA}"}
"""How a base unit is shown."""
FOOT_M = 0.3048
"""Exact since 1959."""


@dataclass(frozen=True)
class Quantity:
    """A kind of quantity: what it is called, its units, and what is plausible.

    `field_unit` is the unit of a bare number. `low` and `high` are in the base unit.
    """

    name: str
    base: str
    field_unit: str
    low: float
    high: float
    allow_zero: bool = False


INDUCTANCE = Quantity("inductance", "H", "H", 1e-6, 100.0)
RESISTANCE = Quantity("resistance", "ohm", "ohm", 0.1, 1e8)
CAPACITANCE = Quantity("capacitance", "F", "pF", 1e-13, 1e-3, allow_zero=True)
LENGTH = Quantity("length", "m", "m", 0.0, 1000.0, allow_zero=True)
FREQUENCY = Quantity("frequency", "Hz", "Hz", 1.0, 1e6)
POWER = Quantity("power", "W", "W", 0.001, 1e5)
LEVEL = Quantity("level", "dBu", "dBu", -200.0, 100.0, allow_zero=True)
GAIN = Quantity("gain", "dB", "dB", -200.0, 200.0, allow_zero=True)

_NUMBER = re.compile(
    r"^([+\-\N{MINUS SIGN}]?(?:\d+(?:[.,]\d*)?|[.,]\d+)(?:[eE][+\-]?\d+)?)\s*(.*)$"
)
_ALIASES = {"ohm": ("ohm", "ohms", "Ω", "Ω", "R"), "F": ("F", "farad"), "H": ("H", "henry"),
            "m": ("m", "metre", "metres", "meter", "meters"), "Hz": ("Hz", "hz")}  # fmt: skip


def parse(text: str, quantity: Quantity) -> float:
    """The value of a text in the quantity's base unit.

    Raises InputError for what is no number, another unit, or not plausible.
    """
    wanted = f"{article(quantity)} such as {example(quantity)}"
    found = _NUMBER.match(text.strip())
    if re.search(r"\d[oO]", text):
        wanted += " (the letter o instead of a zero?)"
    if found is None or re.search(r"\d[oO]{2}", text):
        raise InputError(f"{text.strip()!r} is not {wanted}.")
    number = float(found[1].replace(",", ".").replace("\N{MINUS SIGN}", "-"))
    unit = found[2].strip()
    value = number * _scale(unit, quantity, text, wanted)
    return check(value, quantity)


def check(value: float, quantity: Quantity) -> float:
    """A value that is finite and plausible, or InputError."""
    if not math.isfinite(value):
        raise InputError(f"{article(quantity)} is a finite number.")
    if value == 0.0 and quantity.allow_zero:
        return value
    if value < 0.0 and quantity.low >= 0.0:
        raise InputError(f"{article(quantity)} is not negative.")
    if not quantity.low <= value <= quantity.high:
        raise InputError(
            f"{show(value, quantity)} is not plausible here.",
            remedy=f"From {show(quantity.low, quantity)} to {show(quantity.high, quantity)}; "
            "is the unit right?",
        )
    return value


def _scale(unit: str, quantity: Quantity, text: str, wanted: str) -> float:
    if unit == "":
        return _split(quantity.field_unit, quantity.base)
    if quantity.base == "m":
        if unit in ("ft", "foot", "feet", "'"):
            return FOOT_M
        if unit in ("cm", "mm"):
            return {"cm": 0.01, "mm": 0.001}[unit]
    if quantity.base in ("dBu", "dB"):
        if unit.lower() == quantity.base.lower():
            return 1.0
    else:
        for alias in _ALIASES.get(quantity.base, (quantity.base,)):
            prefix = unit.removesuffix(alias).strip() if unit.endswith(alias) else None
            if prefix is not None and prefix in PREFIXES:
                return PREFIXES[prefix]
        if unit in PREFIXES and quantity.base != "m":
            return PREFIXES[unit]
    raise InputError(f"{text.strip()!r} is not {wanted}: the unit {unit!r} is another one.")


def _split(unit: str, base: str) -> float:
    return PREFIXES[unit.removesuffix(base)]


def article(quantity: Quantity) -> str:
    """The quantity's name with its article."""
    return f"{'an' if quantity.name[0] in 'aeiou' else 'a'} {quantity.name}"


def example(quantity: Quantity) -> str:
    """A text that parses, for messages and empty fields."""
    return {"H": "4.2 H", "ohm": "500k", "F": "180 pF", "m": "6 m", "Hz": "4.5 kHz",
            "dBu": "12 dBu", "dB": "-6 dB", "W": "60 W"}[quantity.base]  # fmt: skip


def show(value: float, quantity: Quantity, digits: int = 3) -> str:
    """Engineering form: `500 kΩ`, `180 pF`, `0 dB`."""
    if quantity.base in ("dBu", "dB", "m"):
        return f"{_plain(value, digits)} {quantity.base}"
    if value == 0.0:
        return f"0 {quantity.field_unit.replace('ohm', SIGNS['ohm'])}"
    # A rounding that reaches the next prefix is shown with it: 999.96 k as 1 M.
    rounded = float(f"{value:.{digits}g}")
    exponent = min(9, max(-12, 3 * math.floor(math.log10(abs(rounded)) / 3.0)))
    prefix = {-12: "p", -9: "n", -6: "\N{MICRO SIGN}", -3: "m", 0: "", 3: "k", 6: "M", 9: "G"}[
        exponent
    ]
    unit = prefix + SIGNS.get(quantity.base, quantity.base)
    return f"{_plain(rounded / 10.0**exponent, digits)} {unit}"


def _plain(value: float, digits: int) -> str:
    text = f"{value:.{digits}g}"
    if "e" in text:
        text = f"{float(text):.0f}"
    return text
