"""A noise check as a session keeps it: how quiet each track was, when, and with which rig."""

from pydantic import Field

from diaulos.rig.model import Frozen, PortRef, Word
from diaulos.session.instrument import Name


class NoiseTrack(Frozen):
    """A track in some seconds of silence. Levels are RMS in dBFS; `floor_a_dbfs` is A-weighted."""

    track: PortRef
    name: Name
    tap: Word = ""
    floor_dbfs: float = Field(ge=-400.0, le=20.0)
    floor_a_dbfs: float = Field(ge=-400.0, le=20.0)
    hum_dbfs: float = Field(ge=-400.0, le=20.0)
    hiss_dbfs: float = Field(ge=-400.0, le=20.0)
    full_scale_dbu: float | None = None


class NoiseCheck(Frozen):
    """All armed tracks at once."""

    made_at: Word
    label: Word = ""
    rig_name: Word
    rig_hash: Word
    """The rig as it was, in the session's snapshots."""
    played_by: Word = ""
    """The device that was listened to; `SIMULATED` for the simulated studio."""
    tracks: tuple[NoiseTrack, ...] = Field(min_length=1, max_length=64)

    @property
    def loudest(self) -> NoiseTrack:
        """The one with the loudest floor, A-weighted."""
        return max(self.tracks, key=lambda one: one.floor_a_dbfs)
