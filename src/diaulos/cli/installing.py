"""Shell commands that put the program where a desktop looks for programs, and take it away."""

from __future__ import annotations

from typing import Annotated

import typer

from diaulos.cli.output import print_json
from diaulos.cli.rig import JsonFlag

UserFlag = Annotated[
    bool | None,
    typer.Option(
        "--user/--system",
        help="For this person, or for everybody; without either for everybody as root.",
    ),
]


def install(user: UserFlag = None, as_json: JsonFlag = False) -> None:
    """Desktop entry, icon, type of packed sessions, shell completion, manual page, command."""
    from diaulos import wiring

    where = wiring.install_places(user=user)
    written = wiring.install_program(where, told_verbs())
    data = {"files": [str(path) for path in written], "command": str(wiring.own_command())}
    if as_json:
        print_json(data)
        return
    for path in written:
        print(f"written: {path}")
    if not wiring.on_path(where.bin):
        print(f"{where.bin} is not in PATH: the desktop entry works, the command by its name not.")


def uninstall(user: UserFlag = None, as_json: JsonFlag = False) -> None:
    """Take away what install wrote and is as it was written; sessions stay."""
    from diaulos import wiring

    gone = wiring.uninstall_program(wiring.install_places(user=user))
    if as_json:
        print_json({"files": [str(path) for path in gone]})
        return
    for path in gone:
        print(f"taken away: {path}")
    if not gone:
        print("Nothing was installed here.")


def told_verbs() -> list[tuple[str, str, tuple[tuple[str, str], ...]]]:
    """Every command with its options, as its help says."""
    from diaulos.cli.main import commands

    found = []
    for name, command in sorted(commands().items()):
        options = tuple(
            (opts[0], str(getattr(parameter, "help", "") or ""))
            for parameter in command.params
            if (opts := [one for one in parameter.opts if one.startswith("--")])
        )
        words = (command.help or "").strip().splitlines()
        found.append((name, words[0] if words else "", options))
    return found
