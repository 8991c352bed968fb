"""What a hunt says: what is hunted, what each test did, what is left, what a remedy brought."""

from __future__ import annotations

from diaulos.figures import number
from diaulos.rig.model import PortRef
from diaulos.units import LOWEST_DB
from diaulos.work.hunting.causes import Family
from diaulos.work.hunting.hunt import SURE, Hunt, Left, Result

NAMES: dict[Family, str] = {"mains": "hum", "whine": "whine", "hiss": "hiss"}
LIKELY, POSSIBLE = 0.5, 0.05
CAUTION = (
    "Mute monitors and headphones before a plug is pulled or put in. A loudspeaker is never "
    "unplugged while its amplifier is on. Never lift a safety earth."
)
NOTHING = "Nothing stands out: what is left is what the devices must have."


def hunted_words(hunt: Hunt, names: dict[PortRef, str]) -> str:
    """What is hunted, where it is worst, and how far it stands out.

    Examples
    --------
    "Hum of -61.2 dBFS on DI, 23.1 dB above its hiss; on 2 of 3 tracks."
    """
    standing = hunt.standing
    if not standing:
        return NOTHING
    worst = standing[0]
    level = hunt.first.level(worst, hunt.family)
    over = hunt.stands_db(worst)
    than = "what its devices must have" if hunt.family == "hiss" else "its hiss"
    where = "above" if over >= 0.0 else "below"
    words = (
        f"{NAMES[hunt.family].capitalize()} of {number(level)} dBFS on {names.get(worst, worst)}, "
        f"{number(abs(over))} dB {where} {than}"
    )
    count = len(hunt.tracks)
    return f"{words}; on {len(standing)} of {count} tracks." if count > 1 else f"{words}."


def outcome_words(hunt: Hunt, result: Result, track: PortRef) -> str:
    """What a test did on a track, with its spread.

    Examples
    --------
    "gone (-31.4 dB)", "as before (+0.2 dB, give or take 0.5)"
    """
    change = hunt.change_db(result, track)
    outcome = hunt.outcome(result, track)
    if change <= LOWEST_DB:
        return "gone (nothing left of it)"
    spread = number(hunt.spread_db(result, track))
    told = f"{number(change, sign=True)} dB, give or take {spread}"
    return f"{ {'gone': 'gone', 'less': 'less', 'same': 'as before'}[outcome] } ({told})"


def share_words(left: Left) -> str:
    """How likely a cause is, as a person says it.

    Examples
    --------
    "found", "likely", "possible", "ruled out"
    """
    if left.share >= SURE:
        return "found"
    if left.share >= LIKELY:
        return "likely"
    return "possible" if left.share >= POSSIBLE else "ruled out"


def verdict_words(hunt: Hunt) -> str:
    """The cause once it is found, or those that no test here can tell apart; "" before."""
    cause = hunt.verdict
    if cause is None:
        return ""
    left = hunt.left
    if not hunt.results and len(left) == 1:
        return f"By the rig it can only be one thing: {cause.words}."
    if hunt.is_sure or len(left) == 1:
        return f"{cause.words}."
    others = [one.cause.words for one in left[1:] if one.share >= POSSIBLE]
    also = "; ".join(others)
    return (
        f"{cause.words}, most likely. No test here tells it from: {also}."
        if also
        else (f"{cause.words}.")
    )


def brought_words(hunt: Hunt, brought_db: float, track: str) -> str:
    """What a remedy brought."""
    name = NAMES[hunt.family]
    if brought_db >= 1.0:
        return f"The remedy brought {number(brought_db)} dB less {name} on {track}."
    return (
        f"The remedy changed nothing ({number(-brought_db, sign=True)} dB of {name} on {track}): "
        "it comes from something else. Undo the last test and try it again."
    )
