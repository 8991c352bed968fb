"""A fixed tenth of the longest checks; the whole is ./diaulos soak NAME."""

from __future__ import annotations

import pytest
from soaked import a_tenth_of


@pytest.mark.parametrize("name", ["proof", "hunt", "loops", "differences"])
def test_a_tenth_of_the_longest_checks(name: str) -> None:
    a_tenth_of(name)
