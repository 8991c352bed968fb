"""`diaulos`: the window, or a use case from the shell, whichever is asked for.

The window's imports are kept apart from the shell's: each start pays only for its own.
"""

from __future__ import annotations

import sys

SHELL_VERBS = {
    "align", "check", "courses", "levels", "loading", "match", "measure", "noise", "reamp",
    "reamp-file", "record", "render", "schema", "strength", "trims", "tune",
    "--help", "-h", "--version",
}  # fmt: skip


def main(arguments: list[str] | None = None) -> int:
    """Run with these arguments; returns the exit code."""
    args = list(sys.argv[1:] if arguments is None else arguments)
    shell = bool(args) and (args[0] in SHELL_VERBS or _windowless_demo(args))
    if shell or (args and args[0].startswith("-")):
        from diaulos.cli.main import run

        return run(args)
    from diaulos.app.start import run_window

    return run_window(args)


def _windowless_demo(args: list[str]) -> bool:
    return args[0] == "demo" and any(
        word in ("--no-window", "--help", "-h", "--json") for word in args[1:]
    )


if __name__ == "__main__":
    sys.exit(main())
