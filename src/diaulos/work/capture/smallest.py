"""The smallest block that runs without a loss on this computer: a figure instead of trying."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from diaulos.records import dataclass
from diaulos.work.capture.ring import Taken
from diaulos.work.capture.stream import Capture
from diaulos.work.ports import AudioBackend, CancelToken, Progress, StreamSpec, no_progress

BLOCKS = (64, 128, 256, 512, 1_024)
SECONDS = 30.0


@dataclass(frozen=True)
class BlockTrial:
    """How a block did: frames lost, and blocks that came late or not at all."""

    block_frames: int
    seconds: float
    lost_frames: int
    xruns: int

    @property
    def clean(self) -> bool:
        """Whether nothing was lost."""
        return self.lost_frames == 0 and self.xruns == 0


def try_blocks(
    backend_at: Callable[[int], AudioBackend],
    rate_hz: int,
    *,
    blocks: Sequence[int] = BLOCKS,
    seconds: float = SECONDS,
    progress: Progress = no_progress,
    cancel: CancelToken | None = None,
) -> tuple[BlockTrial, ...]:
    """Run one block after another, the shortest first, until one loses nothing; the last is that
    one, where there is one. Silence goes out. AudioDeviceError when the device goes."""
    token = cancel or CancelToken()
    found: list[BlockTrial] = []
    total = int(seconds * rate_hz)
    for number, block in enumerate(blocks):
        lost = 0
        capture = Capture(backend_at(block), StreamSpec(rate_hz, block), frames=total)

        def consume(taken: Taken) -> None:
            nonlocal lost
            lost += taken.lost

        def look(capture: Capture = capture, block: int = block, number: int = number) -> None:
            token.check()
            done = min(1.0, capture.captured / total)
            progress((number + done) / len(blocks), f"{block} frames")

        failed = capture.run(consume, look)
        if failed is not None:
            raise failed
        found.append(BlockTrial(block, seconds, lost, capture.xruns))
        if found[-1].clean:
            break
    return tuple(found)
