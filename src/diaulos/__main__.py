"""`diaulos`: the window, or a use case from the shell, whichever is asked for.

The window's imports are kept apart from the shell's: each start pays only for its own.
"""

from __future__ import annotations

import os
import sys

from diaulos.cli import VERBS


def main(arguments: list[str] | None = None) -> int:
    """Run with these arguments; returns the exit code."""
    # Long work has threads of its own. Those of the matrix library wait for one another by
    # spinning: where a second program computes, small products take five times as long.
    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
    # What else is installed has no part in checking a session.
    os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")
    args = list(sys.argv[1:] if arguments is None else arguments)
    if args and _for_the_shell(args):
        from diaulos.cli.main import run

        return run(args)
    from diaulos.app.start import run_window

    return run_window(args)


def _for_the_shell(args: list[str]) -> bool:
    if args[0] == "demo":  # a window unless told otherwise
        return any(word in ("--no-window", "--help", "-h", "--json") for word in args[1:])
    return args[0] in VERBS or args[0].startswith("-")


if __name__ == "__main__":
    sys.exit(main())
