"""Blind tests: against the reference folder, against SciPy, and against whoever only guesses."""

from __future__ import annotations

import json

import numpy as np
import pytest
from scipy import stats

from diaulos.__main__ import main
from diaulos.errors import InputError
from diaulos.signal.blind import judge, needed, power, sequential
from diaulos.work.compare.answers import answer_words, fewest_trials, sequential_words
from support import reference_cases

CASES = reference_cases("08_blind_tests", "blind_tests.json")


def group(name: str) -> list[dict]:
    found = [case for case in CASES if case["group"] == name]
    assert found, name
    return found


@pytest.mark.parametrize("case", group("abx_tail"), ids=lambda case: case["id"])
def test_tails(case: dict) -> None:
    given = case["inputs"]
    found = judge(given["n"], given["correct"]).p_value
    assert found == pytest.approx(case["value"], rel=case["tol"])


@pytest.mark.parametrize("case", group("preference_two_sided"), ids=lambda case: case["id"])
def test_preferences_are_two_sided(case: dict) -> None:
    given = case["inputs"]
    found = judge(given["n"], given["k"], "preference").p_value
    assert found == pytest.approx(case["value"], rel=case["tol"])


@pytest.mark.parametrize(
    "case",
    [one for one in group("clopper_pearson") if one["inputs"]["confidence"] == 0.95],
    ids=lambda case: case["id"],
)
def test_the_interval_is_the_exact_one(case: dict) -> None:
    given = case["inputs"]
    found = judge(given["n"], given["correct"]).interval
    assert found == pytest.approx(tuple(case["value"]), abs=case["tol"])


@pytest.mark.parametrize("case", group("power"), ids=lambda case: case["id"])
def test_what_a_test_can_find(case: dict) -> None:
    given = case["inputs"]
    assert needed(given["n"]) == given["k_needed"]
    assert power(given["n"], given["p_true"]) == pytest.approx(case["value"], rel=case["tol"])


def test_least_right_answers_are_the_least() -> None:
    """Against SciPy, for every length up to sixty."""
    for trials in range(1, 61):
        for kind, side in (("abx", "greater"), ("preference", "two-sided")):
            shown = [
                right
                for right in range((trials + 1) // 2, trials + 1)
                if stats.binomtest(right, trials, 0.5, alternative=side).pvalue <= 0.05
            ]
            assert needed(trials, kind) == (shown[0] if shown else None), (trials, kind)  # type: ignore[arg-type]
    assert needed(fewest_trials("abx")) is not None
    assert needed(fewest_trials("abx") - 1) is None
    assert needed(fewest_trials("preference"), "preference") is not None
    assert needed(fewest_trials("preference") - 1, "preference") is None


def test_both_sides_of_a_preference_count_for_its_power() -> None:
    least = needed(16, "preference")
    assert least is not None
    wanted = stats.binom.sf(least - 1, 16, 0.7) + stats.binom.cdf(16 - least, 16, 0.7)
    assert power(16, 0.7, "preference") == pytest.approx(float(wanted), rel=1e-9)


@pytest.mark.parametrize("kind", ["abx", "preference"])
def test_guessers_are_rarely_told_that_they_hear(kind: str) -> None:
    """10,000 who guess: of a fixed number of trials, and whenever they stop within a hundred."""
    rng = np.random.default_rng(20)
    answers = rng.random((10_000, 100)) < 0.5
    right = np.cumsum(answers, axis=1)
    fixed = needed(16, kind)  # type: ignore[arg-type]
    assert fixed is not None
    at16 = right[:, 15]
    told = at16 >= fixed if kind == "abx" else np.maximum(at16, 16 - at16) >= fixed
    assert told.mean() <= 0.05
    shown = np.array(
        [
            [n > 0 and sequential(n, k, kind).shown for k in range(n + 1)] + [False] * (100 - n)  # type: ignore[arg-type]
            for n in range(101)
        ]
    )
    trials = np.arange(1, 101)
    ever = shown[trials[None, :], right].any(axis=1)
    assert 0.0 < ever.mean() <= 0.05


def test_a_listener_who_hears_is_found_by_either() -> None:
    rng = np.random.default_rng(21)
    right = np.cumsum(rng.random((2_000, 60)) < 0.9, axis=1)
    stops = [
        next((n + 1 for n in range(60) if sequential(n + 1, int(row[n])).shown), 99)
        for row in right
    ]
    # extras.md: median 12 trials for somebody right nine times in ten.
    assert 9 <= np.median(stops) <= 15
    assert np.mean(np.array(stops) <= 60) > 0.98


def test_abx_is_only_shown_by_right_answers() -> None:
    assert sequential(12, 12).shown
    assert not sequential(12, 0).shown
    assert sequential(12, 0, "preference").shown
    assert sequential(0, 0).odds == 1.0
    found = sequential(28, 21)
    from scipy.special import betaln

    assert np.log(found.odds) == pytest.approx(betaln(22, 8) + 28 * np.log(2.0), rel=1e-9)


def test_what_is_said_is_honest() -> None:
    assert answer_words(judge(16, 12)) == "12 of 16, p = 0.04: you hear a difference."
    told = answer_words(judge(16, 7))
    assert told.startswith("7 of 16: not shown; a listener right 9 times in 10")
    assert "98 %" in told
    assert "too few trials" in answer_words(judge(4, 4))
    assert "you prefer B" in answer_words(judge(20, 5, "preference"), "A", "B")
    assert "you prefer A" in answer_words(judge(20, 15, "preference"), "A", "B")
    assert "not the same as equal" in sequential_words(8, 5, sequential(8, 5))
    assert "you hear" in sequential_words(10, 10, sequential(10, 10))


def test_counts_that_cannot_be_are_refused(capsys: pytest.CaptureFixture[str]) -> None:
    for trials, right in ((0, 0), (5, 6), (5, -1), (20_000, 3)):
        with pytest.raises(InputError):
            judge(trials, right)
    assert main(["blind", "--trials", "3", "--right", "7", "--json"]) == 1
    assert json.loads(capsys.readouterr().out)["remedy"]
