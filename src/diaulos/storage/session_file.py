"""session.json as text and back: readable, in a stable order, checked field by field."""

from __future__ import annotations

import json
import re
from pathlib import Path
from typing import Any

from pydantic import ValidationError
from pydantic_core import from_json

from diaulos.errors import SessionFileError
from diaulos.session.migrations import migrate
from diaulos.session.model import Session
from diaulos.storage.beside import read_regular

_NO_NUMBER = re.compile(r'(?:": |^ +)(?:NaN|-?Infinity),?$', re.MULTILINE)
"""A value that JSON has no word for. Text in quotation marks does not end a line so."""


def session_text(session: Session) -> str:
    """session.json: readable, in the order of the model's fields. ValueError where a figure is
    none. Written outside the interpreter, which the window waits for: five times as fast as the
    standard library's indented writer, to the same letter but for exponents (1e-5 for 1e-05)."""
    in_order = dict(sorted(session.snapshots.items()))
    text = session.model_copy(update={"snapshots": in_order}).model_dump_json(indent=1)
    if ("NaN" in text or "Infinity" in text) and _NO_NUMBER.search(text):
        raise ValueError("A figure of the session is not a number.")
    return text + "\n"


def _parsed(raw: bytes) -> Any:
    """What the text says. The quick reader keeps the interpreter half as long, which the window
    waits for; what it does not take, Python's own reads, or says what is wrong with it."""
    try:
        return from_json(raw)
    except ValueError:
        return json.loads(raw.decode("utf-8"))


def read_session(path: Path) -> Session:
    """Read and check a session file; SessionFileError names the field that is wrong."""
    try:
        raw = read_regular(path)
    except FileNotFoundError as error:
        raise SessionFileError(
            "it is not there.", where=str(path), remedy="Choose another folder."
        ) from error
    try:
        data = _parsed(raw)
        if not isinstance(data, dict):
            raise SessionFileError("it does not hold a session.", where=str(path))
        return Session.model_validate(migrate(data, str(path)))
    except json.JSONDecodeError as error:
        raise SessionFileError(
            f"it is cut off or damaged at line {error.lineno}.",
            where=str(path),
            remedy="session.previous.json beside it holds the version before: copy it over.",
        ) from error
    except ValidationError as error:
        first = error.errors()[0]
        field = ".".join(str(part) for part in first["loc"]) or "session"
        raise SessionFileError(
            f"{field}: {_plain(first)}",
            where=str(path),
            remedy="Mend the field, or use session.previous.json beside it. Nothing was changed.",
        ) from error
    except (
        ValueError,
        RecursionError,
        OverflowError,
        TypeError,
        LookupError,
        AttributeError,
    ) as error:
        # Not text at all, numbers of thousands of digits, a thousand brackets, a migration
        # that met something else than it expects.
        raise SessionFileError(
            "it is not a session file, or it is damaged.",
            where=str(path),
            remedy="Choose another folder, or use session.previous.json beside it.",
        ) from error


def _plain(error: Any) -> str:
    if error["type"] == "extra_forbidden":
        return "this field is not known."
    if "pattern" in error["type"]:
        return f"{error.get('input')!r:.80} is not a name that can stand here."
    return f"{error['msg']}."
