"""One line for each word of our own, where it is first met. The same lines as in the glossary
(a test holds them to it)."""

from __future__ import annotations

OWN_WORDS = {
    "course": "the ordered run of stations from an instrument to one recorded track",
    "station": "one place on a course where level, impedance or tone changes",
    "pass": "one reamp of a stored take: its own return tracks and its own settings",
    "trim": "gain for one instrument ahead of the device that makes the tone, so that different "
    "instruments drive it alike",
    "strength": "how much an instrument puts out when it is played hard: its loudest peak, "
    "measured",
    "bench": "the simulated back end: it plays a rig",
    "level window": "a bar from the noise floor to the clip point of that very port: typical level "
    "solid, loudest peak a line, the target a bracket",
}


def own_word(word: str) -> str:
    """A word with its line: "Course: the ordered run ..."."""
    return f"{word.capitalize()}: {OWN_WORDS[word]}"
