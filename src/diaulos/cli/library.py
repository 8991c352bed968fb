"""Shell command around the library: list, search, keep, take, carry."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Any

import typer

from diaulos.cli.output import print_json, print_lines
from diaulos.errors import InputError


def library(
    search: Annotated[str, typer.Argument(metavar="[WORDS]")] = "",
    at: Annotated[
        Path | None, typer.Option("--at", metavar="DIR", help="Another library than one's own.")
    ] = None,
    keep: Annotated[
        Path | None, typer.Option("--keep", metavar="SESSION", help="Keep --what of a session.")
    ] = None,
    take: Annotated[
        Path | None, typer.Option("--take", metavar="SESSION", help="Take --entry into a session.")
    ] = None,
    what: Annotated[
        str, typer.Option("--what", metavar="KIND:NAME", help="instrument:NAME, device:NAME ...")
    ] = "",
    entry: Annotated[str, typer.Option("--entry", metavar="ID", help="An entry.")] = "",
    tag: Annotated[
        list[str] | None, typer.Option("--tag", metavar="TAG", help="With this tag; again.")
    ] = None,
    export: Annotated[
        Path | None, typer.Option("--export", metavar="FILE", help="Write --entry as one file.")
    ] = None,
    import_: Annotated[
        Path | None, typer.Option("--import", metavar="FILE", help="One more, from a file.")
    ] = None,
    merge: Annotated[
        Path | None, typer.Option("--merge", metavar="DIR", help="Take in another library.")
    ] = None,
    dry: Annotated[bool, typer.Option("--dry", help="Say what a merge would do.")] = False,
    photo: Annotated[
        Path | None, typer.Option("--photo", metavar="FILE", help="A photograph for --entry.")
    ] = None,
    compare: Annotated[
        Path | None,
        typer.Option("--compare", metavar="SESSION", help="How a session stands to it."),
    ] = None,
    replace: Annotated[bool, typer.Option("--replace", help="Replace an existing file.")] = False,
    as_json: Annotated[bool, typer.Option("--json", help="Print one JSON object.")] = False,
) -> None:
    """Own gear, known once: the entries of the library."""
    from diaulos import wiring

    there = wiring.library_at(at)
    data: dict[str, Any] = {"library": str(there.path)}
    if keep is not None:
        data["kept"] = _keep(there, keep, what, tag or [])
    elif take is not None:
        data["taken"] = _take(there, take, entry, what)
    elif export is not None:
        wiring.export_entry(there, entry, export, replace=replace)
        data["exported"] = str(export)
    elif import_ is not None:
        data["merged"] = wiring.import_entry(there, import_)
    elif photo is not None:
        data["photographed"] = wiring.add_photograph(there, entry, photo)
    elif merge is not None:
        data["merged"] = wiring.merge_library(there, merge, dry=dry)
    elif compare is not None:
        data["standings"] = _standings(there, compare)
    entries = wiring.search_library(there, search, tag or [])
    data["entries"] = [
        {"id": one.id, "kind": one.kind, "name": one.name, "tags": list(one.tags),
         "changed_at": one.changed_at, "hash": one.hash}
        for one in entries
    ]  # fmt: skip
    data["unread"] = [{"file": one.file, "problem": one.problem} for one in there.unread]
    if as_json:
        print_json(data)
        return
    for key in ("kept", "taken", "exported", "photographed"):
        if key in data:
            print(f"{key}: {data[key]}")
    for step in data.get("merged", ()):
        print(f"{step['name']}: {step['words']}")
    for one in data.get("standings", ()):
        print(f"{one['name']}: {one['words']}")
        for where, here, new in one["lines"]:
            print(f"  {where}: {here} \N{RIGHTWARDS ARROW} {new}")
    done = ("kept", "taken", "exported", "photographed", "merged", "standings")
    if not any(key in data for key in done):
        print_lines([(one.id, f"{one.kind}, {one.name}") for one in entries] or
                    [("empty", "nothing is kept yet")])  # fmt: skip
    for bad in there.unread:
        print(f"cannot be read: {bad.file}: {bad.problem}")


def _split(what: str) -> tuple[Any, str]:
    from diaulos.session.library import KINDS

    kind, colon, name = what.partition(":")
    if kind not in KINDS or not colon or not name:
        raise InputError(
            f"{what!r} names nothing.", where="--what",
            remedy=f"Write KIND:NAME; kinds: {', '.join(KINDS)}.",
        )  # fmt: skip
    return kind, name


def _keep(there: Any, session_path: Path, what: str, tags: list[str]) -> str:
    from diaulos import wiring
    from diaulos.work.library.keeping import keep

    kind, name = _split(what)
    folder = wiring.SessionFolder.open(session_path)
    try:
        session = folder.load()
        entry, edit = keep(session, kind, name, there, folder, wiring.now_text(), tags)
        folder.save(edit(session))
    finally:
        folder.close()
    return entry.id


def _take(there: Any, session_path: Path, entry_id: str, what: str) -> str:
    from diaulos import wiring
    from diaulos.work.library.keeping import find, take

    folder = wiring.SessionFolder.open(session_path)
    try:
        session = folder.load()
        key = find(session, *_split(what))[0] if what else ""
        edit = take(there.read(entry_id), there, folder, key)
        folder.save(edit(session))
    finally:
        folder.close()
    return entry_id


def _standings(there: Any, session_path: Path) -> list[dict[str, Any]]:
    from diaulos import wiring
    from diaulos.work.library.keeping import STATES, standings, what_would_change

    folder = wiring.SessionFolder.open(session_path, read_only=True)
    try:
        session = folder.load()
        told = []
        for one in standings(session, there.entries(), folder):
            lines: tuple[tuple[str, str, str], ...] = ()
            if one.state in ("newer", "both"):
                lines = what_would_change(session, one.key, there.read(one.entry_id))
            told.append({"key": one.key, "name": one.name, "entry": one.entry_id,
                         "state": one.state, "words": STATES[one.state],
                         "lines": [list(line) for line in lines]})  # fmt: skip
        return told
    finally:
        folder.close()
