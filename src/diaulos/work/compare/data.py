"""What the shell prints of comparisons and blind tests."""

from __future__ import annotations

from typing import Any

from diaulos.signal.blind import BlindResult
from diaulos.signal.stacking import Notch
from diaulos.units import samples_to_ms
from diaulos.work.compare.pairs import Pair
from diaulos.work.compare.words import difference_words, verdict_of


def pair_data(pair: Pair) -> dict[str, Any]:
    """One candidate against the first. What could not be told is null, and `reason` says why."""
    found, split, sums = pair.found, pair.split, pair.stacked
    verdict = verdict_of(pair)
    reason = pair.reason or ("silent" if pair.louder_lu is None else "")
    if not reason and split is None:
        reason = "too_short"
    return {
        "a": pair.a,
        "b": pair.b,
        "rate_hz": pair.rate_hz,
        "judged_s": pair.judged_s,
        "delay_samples": found.delay_samples if found else None,
        "delay_ms": samples_to_ms(found.delay_samples, pair.rate_hz) if found else None,
        "delay_error_samples": found.delay_error_samples if found else None,
        "polarity": found.polarity if found else None,
        "drift_ppm": found.drift_ppm if found else None,
        "confidence": found.confidence if found else None,
        "louder_db": _rounded(pair.louder_lu),
        "gain_db": _rounded(split.gain_db if split else None),
        "null_db": _rounded(split.null_db if split else None),
        "null_after_filter_db": _rounded(split.null_after_filter_db if split else None),
        "split": None
        if split is None
        else {
            "as_found_db": _rounded(split.found_db),
            "in_time_db": _rounded(split.in_time_db),
            "at_level_db": _rounded(split.level_db),
            "rest_db": _rounded(split.rest_db),
            "time_share_db": _rounded(split.time_share_db),
            "level_share_db": _rounded(split.level_share_db),
            "tone_share_db": _rounded(split.tone_share_db),
            "rest_least_db": _rounded(split.rest_least_db),
            "rest_most_db": _rounded(split.rest_most_db),
        },
        "bands": [
            {
                "hz": round(one.hz, 2),
                "level_db": _rounded(one.level_db),
                "null_db": _rounded(one.null_db),
                "null_after_filter_db": _rounded(one.null_after_filter_db),
                "coherence": _rounded(one.coherence),
            }
            for one in (split.bands if split else ())
        ],
        "response": [
            {"hz": round(one.hz, 2), "db": _rounded(one.db), "coherence": _rounded(one.coherence)}
            for one in (split.response if split else ())
        ],
        "coherence": [
            {"hz": round(one.hz, 2), "coherence": _rounded(one.coherence)}
            for one in (split.bands if split else ())
        ],
        "mono_sum_db": _rounded(sums.found_db if sums else None),
        "mono_sum_aligned_db": _rounded(sums.in_time_db if sums and found else None),
        "mono_sum_turned_db": _rounded(sums.turned_db if sums and found else None),
        "correlation": _rounded(sums.correlation if sums else None),
        "correlation_aligned": _rounded(sums.in_time_correlation if sums and found else None),
        "side_mid_db": _rounded(sums.side_mid_db if sums else None),
        "octaves": [
            {
                "hz": one.hz,
                "mono_sum_db": _rounded(one.found_db),
                "mono_sum_aligned_db": _rounded(one.in_time_db) if found else None,
                "mono_sum_turned_db": _rounded(one.turned_db) if found else None,
                "plays": one.plays,
            }
            for one in (sums.octaves if sums else ())
        ],
        "notches": _notches(sums.notches if sums else ()),
        "notches_aligned": _notches(sums.in_time_notches if sums and found else ()),
        "verdict": verdict.choice,
        "verdict_words": verdict.words,
        "words": difference_words(pair),
        "reason": reason or None,
    }


def _notches(found: tuple[Notch, ...]) -> list[dict[str, Any]]:
    return [{"hz": round(one.hz, 2), "db": _rounded(one.db)} for one in found]


def _rounded(value: float | None) -> float | None:
    return None if value is None else round(value, 5)


def blind_data(result: BlindResult) -> dict[str, Any]:
    """A blind test's answers judged."""
    return {
        "kind": result.kind,
        "trials": result.trials,
        "right": result.right,
        "p_value": result.p_value,
        "interval": list(result.interval),
        "needed": result.needed,
        "shown": result.shown,
        "power_at": [{"rate": one.rate, "power": one.power} for one in result.power_at],
        "sequential": {
            "odds": result.sequential.odds,
            "enough": result.sequential.enough,
            "p_value": result.sequential.p_value,
            "shown": result.sequential.shown,
        },
    }
