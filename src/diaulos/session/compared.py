"""What comparing leaves in a session: moves into time, low cuts, blind tests with their answers."""

from typing import Annotated, Literal, Self

from pydantic import Field, model_validator

from diaulos.rig.model import Frozen, Word
from diaulos.session.instrument import Ident, Name

Corner = Annotated[float, Field(ge=15.0, le=400.0)]
"""Of a low cut, in Hz."""


class Moved(Frozen):
    """A track or a return moved into another one's time. Its file stays as it is: sample n is heard
    from n + delay + drift x n, turned over where the polarity is -1."""

    delay_samples: float = Field(default=0.0, ge=-1e9, le=1e9)
    drift_ppm: float = Field(default=0.0, ge=-1000.0, le=1000.0)
    polarity: Literal[-1, 1] = 1
    allpass_hz: float | None = Field(default=None, ge=40.0, le=4_000.0)
    """Corner of a first-order all-pass that it is heard through; None: none."""
    against: Word = ""
    """What it was moved against, in words."""

    @property
    def nothing(self) -> bool:
        """Whether it leaves everything as it is."""
        return (
            not self.delay_samples and not self.drift_ppm and self.polarity > 0
            and self.allpass_hz is None
        )  # fmt: skip


class Gate(Frozen):
    """A gate that a track or return is heard through, ahead of a cabinet; its file stays as it is.
    Peaks in dBFS of the file as it lies."""

    open_dbfs: float = Field(ge=-120.0, le=0.0)
    close_dbfs: float = Field(ge=-120.0, le=0.0)
    hold_ms: float = Field(default=60.0, ge=0.0, le=2_000.0)
    release_ms: float = Field(default=150.0, ge=1.0, le=5_000.0)
    depth_db: float = Field(default=-80.0, ge=-120.0, le=-1.0)

    @model_validator(mode="after")
    def _opens_above(self) -> Self:
        if self.close_dbfs > self.open_dbfs:
            raise ValueError("it closes at a level above that at which it opens")
        return self


class MicPlace(Frozen):
    """Where a microphone stood in front of a speaker. None: nobody knows."""

    across: float | None = Field(default=None, ge=0.0, le=1.0)
    """From the centre of the cone (0) to its edge (1)."""
    distance_m: float | None = Field(default=None, ge=0.0, le=30.0)
    """From the grille."""
    angle_deg: float | None = Field(default=None, ge=0.0, le=90.0)
    """Off the axis of the cone."""

    @property
    def unknown(self) -> bool:
        """Whether nothing is known of it."""
        return self.across is None and self.distance_m is None and self.angle_deg is None


class BlindSide(Frozen):
    """One of the two of a blind test: what it is called, its file, the gain it was heard at."""

    name: Name
    file: Word
    gain_db: float = Field(ge=-120.0, le=120.0)


class BlindTrial(Frozen):
    """One trial: what X was (of a preference what was called the first), and the answer."""

    was: Literal["a", "b"]
    answer: Literal["a", "b"]

    @property
    def right(self) -> bool:
        """Whether X was told."""
        return self.was == self.answer


class BlindTest(Frozen):
    """A blind test with its order and answers. `planned` trials were fixed beforehand, or 0: it was
    stopped when somebody liked."""

    id: Ident
    made_at: Word
    kind: Literal["abx", "preference"]
    planned: int = Field(default=0, ge=0, le=1_000)
    a: BlindSide
    b: BlindSide
    first: int = Field(default=0, ge=0)
    last: int = Field(default=0, ge=0)
    """The stretch that was heard, in frames; both 0: all of it."""
    trials: tuple[BlindTrial, ...] = Field(default=(), max_length=10_000)

    @property
    def right(self) -> int:
        """How many were right; of a preference how often A was preferred."""
        if self.kind == "abx":
            return sum(one.right for one in self.trials)
        return sum(one.answer == "a" for one in self.trials)
