"""A fixed tenth of the long checks; the whole is ./diaulos soak NAME. Those that need most time are
in test_soak_long.py: a file is one worker's."""

from __future__ import annotations

import pytest
from soaked import a_tenth_of


@pytest.mark.parametrize("name", ["kills", "mutants", "disk", "truth", "delays"])
def test_a_tenth_of_the_long_checks(name: str) -> None:
    a_tenth_of(name)
