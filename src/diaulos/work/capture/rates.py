"""A device at another sample rate than the session, and both ways out of that."""

from __future__ import annotations

from diaulos.session.model import Session
from diaulos.work.ports import DeviceInfo

SERVER_MENDS = {
    "jack": "Start its server at {rate} Hz (jackd ... -r {rate})",
    "pipewire": "Let PipeWire run at {rate} Hz "
    "(pw-metadata -n settings 0 clock.force-rate {rate}; 0 lets go again)",
}
OTHER_MEND = "Set it to {rate} Hz"


def other_rate(session: Session, there: DeviceInfo) -> int | None:
    """The rate that a device runs at where it cannot run at the session's; None where it can."""
    if not there.rates_hz or session.sample_rate_hz in there.rates_hz:
        return None
    return there.rates_hz[0]


def rate_words(session: Session, there: DeviceInfo) -> str:
    """What differs, and both ways out; "" where nothing does."""
    rate = other_rate(session, there)
    if rate is None:
        return ""
    mend = SERVER_MENDS.get(there.backend, OTHER_MEND).format(rate=session.sample_rate_hz)
    if session.holds_audio:
        other = f"make a new session at {rate} Hz and import the takes there, which resamples them"
    else:
        other = f"make this session {rate} Hz (nothing is recorded in it yet)"
    return (
        f"{there.name} runs at {rate} Hz, the session at {session.sample_rate_hz} Hz: nothing is "
        f"recorded until both agree. {mend}, or {other}."
    )
