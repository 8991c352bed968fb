"""What the shell prints: progress on a terminal, JSON on request, errors with exit codes."""

from __future__ import annotations

import json
import math
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from diaulos.errors import AmbiguousError, CancelledError, DiaulosError, RefusedError
from diaulos.work.ports import Progress

EXIT_DONE, EXIT_ERROR, EXIT_USAGE, EXIT_REFUSED = 0, 1, 2, 3


def clean(value: Any) -> Any:
    """JSON holds no NaN and no infinity: null instead."""
    if isinstance(value, float) and not math.isfinite(value):
        return None
    if isinstance(value, dict):
        return {key: clean(item) for key, item in value.items()}
    if isinstance(value, (list, tuple)):
        return [clean(item) for item in value]
    return value


def print_json(data: dict[str, Any]) -> None:
    """One JSON object on standard output."""
    print(json.dumps(clean(data), indent=2, allow_nan=False))


def print_lines(pairs: list[tuple[str, str]]) -> None:
    """Name and value in two columns, for a person."""
    width = max(len(name) for name, _ in pairs)
    for name, value in pairs:
        print(f"{name:<{width}}  {value}")


@contextmanager
def told_progress(title: str, quiet: bool) -> Iterator[Progress]:
    """A progress bar on a terminal's error output; nothing when it is no terminal."""
    if quiet or not sys.stderr.isatty():
        yield lambda fraction, text: None
        return
    from rich.console import Console
    from rich.progress import BarColumn, TextColumn, TimeElapsedColumn
    from rich.progress import Progress as Bar

    columns = (TextColumn("{task.description}"), BarColumn(), TimeElapsedColumn())
    with Bar(*columns, console=Console(stderr=True), transient=True) as bar:
        task = bar.add_task(title, total=1.0)
        yield lambda fraction, text: bar.update(task, completed=fraction, description=text)


def report(error: DiaulosError, as_json: bool) -> int:
    """Say what went wrong and return the exit code for it."""
    reason = getattr(error, "reason", "")
    if as_json:
        name = type(error).__name__.removesuffix("Error").lower()
        data: dict[str, Any] = {
            "error": error.what,
            "where": error.where or None,
            "remedy": error.remedy or None,
            "reason": reason or name,
        }
        if isinstance(error, AmbiguousError):
            data["candidates_samples"] = list(error.candidates_samples)
        print_json(data)
    print(f"diaulos: {error}", file=sys.stderr)
    if isinstance(error, RefusedError):
        return EXIT_REFUSED
    return 130 if isinstance(error, CancelledError) else EXIT_ERROR
