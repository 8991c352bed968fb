"""One owner of playback: whoever wants to be heard has a place, and one place sounds at a time.

Each place keeps what it has to play; when it plays, the others are paused where they are and
the one player gets its channels. So two things can never sound at once, the output is opened
once, and the level that a person set on a device is one level everywhere.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Set

from diaulos.work.listening.player import Channel, Player, mixed
from diaulos.work.ports import OutputBackend

Remember = Callable[[dict[str, float]], None]
"""Keeps the last level per device."""


class Sound:
    """The player and the places that share it."""

    def __init__(
        self,
        output: OutputBackend,
        rate_hz: int,
        levels_db: Mapping[str, float] | None = None,
        remember: Remember = lambda levels: None,
    ) -> None:
        self._player = Player(output, rate_hz, dict(levels_db or {}))
        self._remember = remember
        self._turn: Place | None = None

    def place(self) -> Place:
        """A place to be heard from."""
        return Place(self)

    @property
    def playing(self) -> bool:
        """Whether anything sounds."""
        return self._player.playing

    def pause(self) -> None:
        """Silence, wherever it comes from."""
        self._player.pause()

    def close(self) -> None:
        """Let go of the output; levels are remembered."""
        self._player.close()
        self._remember(self._player.last_levels_db)

    def _given(self, place: Place) -> Player:
        """The player, for a place whose turn it is now."""
        if self._turn is not place:
            self._player.pause()
            if self._turn is not None:
                self._turn._left_at(self._player.position)
            self._turn = place
            place._bring(self._player)
        return self._player

    def _of(self, place: Place) -> Player | None:
        """The player if it is this place's turn."""
        return self._player if self._turn is place else None


class Place:
    """What one view has to play: used like a player, sounding only in its turn."""

    def __init__(self, sound: Sound) -> None:
        self._sound = sound
        self._channels: tuple[Channel, ...] = ()
        self._frames, self._layered = 0, False
        self._heard: frozenset[str] = frozenset()
        self._loop: tuple[int, int] | None = None
        self._position = 0

    # --- its turn ---

    def _left_at(self, frame: int) -> None:
        self._position = frame

    def _bring(self, player: Player) -> None:
        player.set_channels(self._channels, self._frames, layered=self._layered)
        player.hear(self._heard)
        player.set_loop(self._loop)
        player.seek(self._position)

    # --- what is asked ---

    @property
    def playing(self) -> bool:
        """Whether this place sounds."""
        player = self._sound._of(self)
        return player is not None and player.playing

    @property
    def position(self) -> int:
        """Frame of the take that is heard now, or where it goes on."""
        player = self._sound._of(self)
        return self._position if player is None else player.position

    @property
    def channels(self) -> tuple[Channel, ...]:
        """What can be heard."""
        return self._channels

    @property
    def heard(self) -> frozenset[str]:
        """Keys of what is heard."""
        return self._heard

    @property
    def loop(self) -> tuple[int, int] | None:
        """The stretch that repeats."""
        return self._loop

    @property
    def level_db(self) -> float:
        """Level of everything that is heard, here and elsewhere."""
        return self._sound._player.level_db

    @property
    def device(self) -> str:
        """Name of the output; "" before the first use."""
        return self._sound._player.device

    @property
    def silent(self) -> bool:
        """True where nobody hears it."""
        return self._sound._player.silent

    def taken_error(self) -> BaseException | None:
        """What ended the playback, once."""
        player = self._sound._of(self)
        return None if player is None else player.taken_error()

    # --- what is set ---

    def set_channels(
        self, channels: tuple[Channel, ...], frames: int, *, layered: bool = False
    ) -> None:
        """What can be heard, and how long the take is; `layered`: candidates to switch between."""
        self._channels, self._frames, self._layered = channels, frames, layered
        self._position = min(self._position, frames)
        player = self._sound._of(self)
        if player is not None:
            player.set_channels(channels, frames, layered=layered)

    def set_mix(self, places: Mapping[str, tuple[float, float]]) -> None:
        """(gain in dB, pan) of channels by key, without a stutter."""
        self._channels = mixed(self._channels, places)
        player = self._sound._of(self)
        if player is not None:
            player.set_mix(places)

    def hear(self, keys: Set[str]) -> None:
        """Which channels are heard."""
        self._heard = frozenset(keys)
        player = self._sound._of(self)
        if player is not None:
            player.hear(keys)

    def set_loop(self, loop: tuple[int, int] | None) -> None:
        """Repeat a stretch (first, end), or nothing."""
        self._loop = loop if loop and loop[1] > loop[0] else None
        player = self._sound._of(self)
        if player is not None:
            player.set_loop(loop)

    def set_level(self, level_db: float) -> None:
        """Level of everything, at most 0 dB; remembered for the device."""
        self._sound._player.set_level(level_db)

    def seek(self, frame: int) -> None:
        """Go to a frame of the take."""
        self._position = max(0, min(frame, self._frames))
        player = self._sound._of(self)
        if player is not None:
            player.seek(frame)

    def play(self) -> None:
        """Begin to play, in place of whatever sounded."""
        self._sound._given(self).play()

    def pause(self) -> None:
        """Stop where it is."""
        player = self._sound._of(self)
        if player is not None:
            player.pause()
