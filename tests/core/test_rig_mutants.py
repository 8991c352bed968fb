"""Rigs with one thing wrong: are they noticed?"""

from __future__ import annotations

import runpy
from pathlib import Path

import pytest
from mutants import follow

from diaulos.rig.course import trace
from diaulos.rig.templates import TEMPLATES, build

ROOT = Path(__file__).parents[2]


@pytest.fixture(scope="module")
def page() -> str:
    """The manual page, made anew."""
    return runpy.run_path(str(ROOT / "tools" / "checks_doc.py"))["text"]()


def test_the_manual_page_is_the_codes(page: str) -> None:
    assert (ROOT / "docs" / "checks.md").read_text("utf-8") == page


def test_most_of_what_matters_is_noticed(page: str) -> None:
    words = page.split("## What they miss")[1].split()
    made, matter = int(words[0]), int(words[words.index("matter:") - 3])
    noticed = int(words[words.index("notice") + 1])
    assert made >= 500
    assert matter >= 200
    assert noticed / matter >= 0.95
    missed = [line for line in page.split("## What they miss")[1].splitlines() if line[:2] == "- "]
    assert 0 < len(missed) <= matter - noticed


@pytest.mark.parametrize("name", sorted(TEMPLATES))
def test_the_judges_own_tracer_agrees_on_a_sound_rig(name: str) -> None:
    rig = build(name, "r1")
    for track in rig.tracks:
        course = trace(rig, track.port)
        source, tap, channel, rates = follow(rig, track.port)
        assert source == course.start.device.id == track.source
        assert bool(channel)
        assert rates == ("48000",)
        assert (tap == "di") == (course.tap == "di")
