"""The one function that finds a free id or name; and the id of the simulated studio."""

from __future__ import annotations

from collections.abc import Callable, Container

BENCH = "bench"
"""The simulated studio among the devices, and as the one who played a take."""


def free_id(
    taken: Container[str] | Callable[[str], bool],
    stem: str,
    *,
    between: str = "",
    digits: int = 0,
    first: int = 1,
) -> str:
    """The first that is not taken of stem, stem2, stem3 ... (with `between` ahead of the
    number); with `digits` all are numbered, from `first` on: stem0001, stem0002 ..."""
    is_taken = taken if callable(taken) else taken.__contains__
    number = first
    while True:
        if digits:
            found = f"{stem}{number:0{digits}d}"
        else:
            found = stem if number == 1 else f"{stem}{between}{number}"
        if not is_taken(found):
            return found
        number += 1
