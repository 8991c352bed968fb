"""Entries of a library with something wrong in them: each is refused or harmless."""

from __future__ import annotations

import json
import random
import tempfile
from pathlib import Path

from diaulos.demo.saltmarsh import bare_demo
from diaulos.errors import DiaulosError
from diaulos.session.library import Entry
from diaulos.storage.entry_file import read_entry_file
from diaulos.storage.library import LibraryFolder, entry_text, kept_of
from diaulos.work.library.merging import merge, plan_merge

ENTRIES = 5_000
HOSTILE = ("../../evil", "/etc/passwd", "a/b.wav", "..", "", "x" * 400, "\n", 1e308, -1, None, [],
           {}, True, "instrument", "NaN")  # fmt: skip


def good_entry(photograph: bytes = b"picture") -> tuple[Entry, dict[str, bytes]]:
    """An instrument with a photograph."""
    one = bare_demo().instruments[0]
    entry = Entry(
        id="baritone", kind="instrument", name=one.name, tags=("own", "baritone"),
        files=(kept_of("front.jpg", photograph),), instrument=one,
    )  # fmt: skip
    return entry, {"front.jpg": photograph}


def _mutated(text: str, draws: random.Random) -> bytes:
    way = draws.randrange(5)
    if way == 0:
        data = bytearray(text.encode())
        for _ in range(draws.randint(1, 20)):
            data[draws.randrange(len(data))] = draws.randrange(256)
        return bytes(data)
    if way == 1:
        return text.encode()[: draws.randrange(len(text))]
    if way == 2:
        return (draws.choice(("[", '{"a":')) * draws.choice((10, 5_000))).encode()
    data = json.loads(text)
    spot = data
    while True:
        key = draws.choice(list(spot) if isinstance(spot, dict) else list(range(len(spot))))
        value = spot[key]
        if isinstance(value, (dict, list)) and value and draws.random() < 0.7:
            spot = value
            continue
        if way == 3 and isinstance(spot, dict):
            del spot[key]
        else:
            spot[key] = draws.choice(HOSTILE)
        return json.dumps(data).encode()


def mutated(root: Path, count: int, draws: random.Random) -> list[str]:
    """What went wrong: an error that is none of ours, a file outside, a library that fails."""
    entry, files = good_entry()
    text = entry_text(entry)
    wrong = []
    own = LibraryFolder(root / "own")
    own.write(entry, files)
    for at in range(count):
        data = _mutated(text, draws)
        place = root / "theirs" / "instruments"
        place.mkdir(parents=True, exist_ok=True)
        (place / "baritone.json").write_bytes(data)
        (place / "fine.json").write_text(entry_text(entry.model_copy(
            update={"id": "fine", "files": ()})))  # fmt: skip
        library = LibraryFolder(root / "theirs")
        try:
            listed = library.entries()
            if "fine" not in {one.id for one in listed}:
                wrong.append(f"{at}: the good entry was not read")
            if len(listed) + len(library.unread) != 2:
                wrong.append(f"{at}: an entry is neither read nor named")
            alone = root / "one.json"
            alone.write_bytes(data)
            try:
                found = read_entry_file(alone)[0]
                merge(plan_merge([own.read("baritone")], [found]), own, library, "theirs")
            except DiaulosError as error:
                if not str(error):
                    wrong.append(f"{at}: an error without words")
        except Exception as error:
            wrong.append(f"{at}: {type(error).__name__}: {error}")
        outside = {one.name for one in root.iterdir()} - {"own", "theirs", "one.json"}
        if outside:
            wrong.append(f"{at}: outside: {outside}")
            break
    if own.read("baritone").thing != entry.thing:
        wrong.append("the own entry was changed")
    return wrong


def run(count: int, seed: int = 1) -> tuple[str, int]:
    """Words, and how many did harm."""
    with tempfile.TemporaryDirectory() as folder:
        wrong = mutated(Path(folder), count, random.Random(seed))
    words = f"gear: {count} entries with something wrong, {len(wrong)} did harm"
    return "\n".join([words, *wrong[:20]]), len(wrong)
