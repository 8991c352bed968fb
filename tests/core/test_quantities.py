"""Quantities as people type them, and as they are shown."""

from __future__ import annotations

import math

import pytest
from hypothesis import given
from hypothesis import strategies as st

from diaulos.errors import InputError
from diaulos.quantities import (
    CAPACITANCE,
    FREQUENCY,
    GAIN,
    INDUCTANCE,
    LENGTH,
    RESISTANCE,
    Quantity,
    check,
    parse,
    show,
)


@pytest.mark.parametrize(
    ("text", "quantity", "value"),
    [
        ("4.2 H", INDUCTANCE, 4.2),
        ("4,2", INDUCTANCE, 4.2),
        ("2400 mH", INDUCTANCE, 2.4),
        ("500k", RESISTANCE, 500e3),
        ("500 kohm", RESISTANCE, 500e3),
        ("1 M", RESISTANCE, 1e6),
        ("1MΩ", RESISTANCE, 1e6),
        ("8200", RESISTANCE, 8200.0),
        ("4.7 R", RESISTANCE, 4.7),
        ("180 pF", CAPACITANCE, 180e-12),
        ("180", CAPACITANCE, 180e-12),
        ("0.022 uF", CAPACITANCE, 22e-9),
        ("22n", CAPACITANCE, 22e-9),
        ("0", CAPACITANCE, 0.0),
        ("6 m", LENGTH, 6.0),
        ("20 ft", LENGTH, 6.096),
        ("20'", LENGTH, 6.096),
        ("450 cm", LENGTH, 4.5),
        ("4.5 kHz", FREQUENCY, 4500.0),
        ("-6 dB", GAIN, -6.0),
        ("\N{MINUS SIGN}6", GAIN, -6.0),
        ("1e3", RESISTANCE, 1000.0),
    ],
)
def test_what_people_type(text: str, quantity: Quantity, value: float) -> None:
    assert parse(text, quantity) == pytest.approx(value)


@pytest.mark.parametrize(
    ("text", "quantity", "words"),
    [
        ("5oo k", RESISTANCE, "letter o instead of a zero"),
        ("", RESISTANCE, "not a resistance such as 500k"),
        ("loud", RESISTANCE, "not a resistance"),
        ("-180 pF", CAPACITANCE, "not negative"),
        ("1e9 henry", INDUCTANCE, "not plausible"),
        ("4.2 kg", INDUCTANCE, "the unit 'kg' is another one"),
        ("180 pF", INDUCTANCE, "another one"),
        ("12 dB", LENGTH, "another one"),
        ("nan", RESISTANCE, "not a resistance"),
        ("9e999", RESISTANCE, "finite"),
    ],
)
def test_what_is_refused_says_why(text: str, quantity: Quantity, words: str) -> None:
    with pytest.raises(InputError, match=words):
        parse(text, quantity)


@pytest.mark.parametrize(
    ("value", "quantity", "text"),
    [
        (500e3, RESISTANCE, "500 kΩ"),
        (1e6, RESISTANCE, "1 MΩ"),
        (999_960.0, RESISTANCE, "1 MΩ"),
        (180e-12, CAPACITANCE, "180 pF"),
        (22e-9, CAPACITANCE, "22 nF"),
        (0.0, CAPACITANCE, "0 pF"),
        (4.2, INDUCTANCE, "4.2 H"),
        (6.0, LENGTH, "6 m"),
        (4464.8, FREQUENCY, "4.46 kHz"),
    ],
)
def test_what_is_shown(value: float, quantity: Quantity, text: str) -> None:
    assert show(value, quantity) == text


@given(st.floats(1.0, 9e7), st.sampled_from([RESISTANCE, FREQUENCY]))
def test_what_is_shown_can_be_typed_again(value: float, quantity: Quantity) -> None:
    value = min(value, 9e5)
    assert parse(show(value, quantity, 6), quantity) == pytest.approx(value, rel=1e-5)


def test_infinity_is_refused() -> None:
    with pytest.raises(InputError):
        check(math.inf, LENGTH)
