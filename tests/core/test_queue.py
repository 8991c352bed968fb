"""Tones in a row: nothing lost, nothing doubled, whoever stops it and when."""

from __future__ import annotations

import json
import random
from pathlib import Path

import numpy as np
import pytest
from test_cli import documented, run, run_json
from test_reamp import GUITAR_TAKE, desk

from diaulos.errors import CancelledError, EditError, InputError, RigError
from diaulos.session.model import Session
from diaulos.storage.folder import SessionFolder
from diaulos.wiring import bench_for
from diaulos.work.ports import CancelToken
from diaulos.work.reamp.queue import (
    LONGEST_S,
    QueueFile,
    asked_passes,
    clear_queue,
    is_driven_hard,
    line_up,
    make_queued,
    next_waiting,
    progress_words,
    read_queue,
    refused,
    to_set,
)
from support import NOON, RATE

__all__ = ["desk"]  # a fixture

Desk = tuple[SessionFolder, Session]
VERSE, CHORUS = "Slack water, verse", "Slack water, chorus"
TONES = [
    {"name": "Soft", "settings": {"amp.drive": 3.0}},
    {"name": "Loud", "settings": {"amp.voice": "foghorn", "amp.drive": 8.0}},
    {"name": "Boxed", "settings": {"load_box.cabinet": "none"}, "impulse": "closed-four"},
]


def asked(**more: object) -> QueueFile:
    data = {"takes": [VERSE], "tones": TONES, "match_lufs": -22.0, "range": "1-1", **more}
    return QueueFile.model_validate(data)


def make(desk: Desk, session: Session, cancel: CancelToken | None = None, progress=None):  # type: ignore[no-untyped-def]
    item = next_waiting(session)
    assert item is not None
    return make_queued(
        session, item, store=desk[0], backend_for=bench_for(seed=7), clock=lambda: NOON,
        progress=progress or (lambda *_: None), cancel=cancel,
    )  # fmt: skip


def test_every_tone_through_every_take(desk: Desk) -> None:
    session = desk[1]
    rig = session.rigs
    session = line_up(asked_passes(session, asked()))(session)
    assert [one.tone.name for one in session.queue] == ["Soft", "Loud", "Boxed"]
    assert "drive 3" in to_set(session, session.queue[0])[0].lower()
    while next_waiting(session) is not None:
        session = make(desk, session).edit(session)
    assert progress_words(session) == "3 of 3 made"
    assert session.rigs == rig, "the tones of a queue do not change the rig on screen"
    passes = session.take(VERSE).passes
    assert [one.id for one in passes] == [one.pass_id for one in session.queue]
    assert passes[1].name == "Foghorn drive 8, box, bar 1"
    assert passes[2].name.endswith("four twelve-inch")
    for made in passes:
        match = made.main.match
        assert match.after_lufs == pytest.approx(-22.0 + match.pair_offset_db, abs=0.1)
    assert session.cabinets[passes[2].main.file].used == "closed-four"
    again = line_up(asked_passes(session, asked(tones=TONES[:1])))(session)
    assert len(again.queue) == 1, "what was made leaves it"
    assert clear_queue()(again).queue == ()


def test_stopped_and_gone_on_with_at_random_moments(desk: Desk) -> None:
    """Each cancelled pass is thrown away whole; whoever goes on makes what waits, and only that."""
    folder, session = desk
    session = line_up(asked_passes(session, asked(tones=TONES[:2], takes=[VERSE, CHORUS])))(session)
    rng, cancelled = random.Random(5), 0
    while (item := next_waiting(session)) is not None:
        cancel, stop = CancelToken(), rng.uniform(0.0, 1.3)

        def progress(fraction: float, _text: str, cancel=cancel, stop=stop) -> None:  # type: ignore[no-untyped-def]
            if fraction > stop:
                cancel.cancel()

        try:
            outcome = make((folder, session), session, cancel, progress)
        except CancelledError:
            cancelled += 1
            assert next_waiting(session) == item
            continue
        session = outcome.edit(session)
    assert cancelled > 0
    made = [(one.take_id, one.tone.name) for one in session.queue if one.pass_id]
    assert len(made) == len(set(made)) == 4
    passes = [one for take in session.takes for one in take.passes]
    assert len(passes) == 4
    assert folder.orphans(session) == []


def test_one_that_cannot_be_made_does_not_stop_the_others(desk: Desk) -> None:
    session = desk[1]
    session = line_up(asked_passes(session, asked(tones=TONES[:2])))(session)
    first = next_waiting(session)
    session = refused(first, "The amplifier is gone.")(session)
    assert next_waiting(session).tone.name == "Loud"
    assert progress_words(session) == "0 of 2 made, 1 refused"
    assert refused(first, "again")(session) == session


@pytest.mark.parametrize(
    ("more", "error", "words"),
    [
        ({"takes": ["Nobody"]}, EditError, "no take"),
        ({"tones": [{"name": "x", "rig": "Nowhere"}]}, EditError, "no rig"),
        ({"tones": [{"name": "x", "tone": "Nothing"}]}, EditError, "no tone"),
        ({"tones": [{"name": "x", "settings": {"amp.drive": 99.0}}]}, RigError, "cannot be set"),
        ({"tones": [{"name": "x", "settings": {"amp.heat": 1.0}}]}, RigError, "heat"),
        ({"tones": [{"name": "x", "settings": {"sun.drive": 1.0}}]}, RigError, "sun"),
        ({"tones": [{"name": "x", "impulse": "nothing"}]}, EditError, "no cabinet"),
        ({"match": "k01"}, InputError, "exclude"),
        ({"match": "Nobody", "match_lufs": None}, EditError, "no track"),
        ({"range": "5-2"}, InputError, "range"),
        ({"takes": [VERSE] * 251, "tones": TONES[:2]}, InputError, "at most"),
    ],
)
def test_what_is_not_there_is_refused_before_anything_is_sent(
    desk: Desk, more: dict[str, object], error: type[Exception], words: str
) -> None:
    with pytest.raises(error, match=words):
        asked_passes(desk[1], asked(**more))


@pytest.mark.parametrize(
    ("text", "words"),
    [("", "JSON"), ("[]", "object"), ('{"takes": []}', "takes"), ("x" * 300_000, "too long"),
     ('{"takes": ["a"], "tones": [{"name": "x", "settings": {"a.b": [1]}}]}', "settings")],
)  # fmt: skip
def test_a_file_that_is_no_queue(tmp_path: Path, text: str, words: str) -> None:
    path = tmp_path / "queue.json"
    path.write_text(text)
    with pytest.raises(InputError, match=words):
        read_queue(path)
    with pytest.raises(InputError, match="cannot be read"):
        read_queue(tmp_path / "none.json")


def test_a_driven_amplifier_is_not_left_alone(desk: Desk) -> None:
    """On a real device: no pass of more than ten minutes through what gets hot."""
    session = desk[1]
    assert is_driven_hard(session.rig("rig01"))
    session = line_up(asked_passes(session, asked(tones=TONES[:1], range="")))(session)
    take = session.take(GUITAR_TAKE)
    tracks = tuple(
        one.model_copy(update={"frames": round((LONGEST_S + 1.0) * RATE)}) for one in take.tracks
    )
    long = take.model_copy(update={"tracks": tracks})
    session = session.model_copy(
        update={"takes": tuple(long if one.id == take.id else one for one in session.takes)}
    )
    with pytest.raises(InputError, match="without a pause"):
        make_queued(
            session, next_waiting(session), store=desk[0], backend_for=bench_for(),
            clock=lambda: NOON, device="box",
        )  # fmt: skip


# --- from the shell ---


def test_a_queue_from_the_shell(demo_copy: Path, tmp_path: Path, capsys) -> None:  # type: ignore[no-untyped-def]
    file = tmp_path / "queue.json"
    file.write_text(asked(tones=TONES[1:]).model_dump_json())
    code, data = run_json(capsys, "reamp", demo_copy, "--queue", file)
    assert code == 0
    assert set(data) == {"session"} | documented("reamp SESSION (--queue")
    assert (data["made"], data["waiting"], data["refused"]) == (2, 0, [])
    assert data["passes"][1]["cabinet"]["cabinet"] == "closed-four"
    assert data["passes"][1]["part"]["first"] == 0
    code, data = run_json(capsys, "reamp", demo_copy, "--resume")
    assert (code, data["made"]) == (0, 0)
    code, text, _ = run(capsys, "reamp", demo_copy, "--queue", file)
    assert code == 0
    assert "2 made, 0 waiting" in text
    code, _, text = run(capsys, "reamp", demo_copy)
    assert code == 1
    assert "--queue" in text


def test_a_part_and_a_cabinet_from_the_shell(demo_copy: Path, tmp_path: Path, capsys) -> None:  # type: ignore[no-untyped-def]
    import soundfile

    verb = ("reamp", demo_copy, "--take", VERSE, "--match", "Amp and cabinet")
    _, whole = run_json(capsys, *verb)
    _, data = run_json(
        capsys, *verb, "--range", "1-1", "--join", whole["name"], "--impulse", "open-one"
    )
    assert data["part"]["joined"].startswith(whole["name"])
    assert data["cabinet"]["cabinet"] == "open-one"
    assert "which has a cabinet" in data["cabinet"]["before"]
    assert data["after_lufs"] == whole["after_lufs"]
    response = tmp_path / "Chandlery.wav"
    soundfile.write(response, 0.5 ** np.arange(200), 44_100)
    verb = ("cabinet", demo_copy, "--take", VERSE, "--pass", data["name"])
    code, told = run_json(capsys, *verb, "--put", response)
    assert code == 0
    assert set(told) == documented("cabinet SESSION")
    assert [one["name"] for one in told["choices"]] == ["Open back, one twelve-inch", "Chandlery"]
    assert told["used"] == "impulses/Chandlery.wav"
    assert told["before"], "the load box has a cabinet in this rig: two in a row"
    assert run_json(capsys, *verb, "--use", "Open back, one twelve-inch")[1]["used"] == "open-one"
    assert run_json(capsys, *verb, "--none")[1]["used"] is None
    assert run_json(capsys, *verb, "--remove")[1]["choices"] == []
    code, _, text = run(capsys, *verb, "--use", "open-one")
    assert code == 1
    assert "Add it first" in text
    out = tmp_path / "di.wav"
    verb = ("export", demo_copy, out, "--take", VERSE)
    assert run_json(capsys, *verb, "--track", "k01")[1]["file"] == str(out)
    assert run(capsys, *verb, "--track", "k01")[0] == 1
    assert run(capsys, *verb)[0] == 1


def test_a_part_is_rendered_through_the_shell(demo_copy: Path, tmp_path: Path, capsys) -> None:  # type: ignore[no-untyped-def]
    saved = json.loads((demo_copy / "session.json").read_text("utf-8"))
    take = next(one for one in saved["takes"] if one["id"] == GUITAR_TAKE)
    di = demo_copy / take["tracks"][0]["file"]
    verb = ("render", demo_copy, "--di", di, "--rig", "rig01")
    out = tmp_path / "out"
    code, data = run_json(capsys, *verb, "--out", out, "--range", "1s-3s", "--state", "reamp")
    assert code == 0
    assert data["frames"] == 3 * RATE + RATE // 200, "its fade of 5 ms, and a second of tail"
    names = [one["name"] for one in data["tracks"]]
    code, data = run_json(
        capsys, *verb, "--out", tmp_path / "one", "--returns", names[0], "--range", "1s-2s"
    )
    assert [one["name"] for one in data["tracks"]] == names[:1]
    code, _, text = run(capsys, *verb, "--out", tmp_path / "two", "--returns", "Nobody")
    assert code == 1
    assert "Its tracks" in text
    import soundfile

    response = tmp_path / "box.wav"
    soundfile.write(response, np.stack([0.5 ** np.arange(300)] * 2, axis=1), RATE)
    code, data = run_json(
        capsys, *verb, "--out", tmp_path / "three", "--range", "1s-2s", "--impulse", response
    )
    assert code == 0
    assert "Two cabinets" in data["remark"], "this rig has one already"
    assert soundfile.info(data["tracks"][0]["file"]).channels == 2
    assert data["tracks"][0]["cabinet"] == "box.wav"
