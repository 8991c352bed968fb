"""Long checks, whole: ./diaulos soak NAME [--tenth] [--seed N]. What is not named runs all."""

from __future__ import annotations

import argparse
import sys
import time
from collections.abc import Callable
from pathlib import Path

HERE = Path(__file__).resolve().parent.parent
sys.path[:0] = [str(HERE / "tests" / name) for name in ("soak", "core", "")]

import archives
import delays
import differences
import disk
import gear
import hostile
import hunt
import identification
import kills
import loops
import ports
import proof
import queues
import truth

CHECKS: dict[str, Callable[[bool, int], tuple[str, int]]] = {
    "kills": lambda tenth, seed: kills.run(kills.WHOLE // (10 if tenth else 1), seed),
    "mutants": lambda tenth, seed: hostile.run(
        hostile.SESSIONS // (10 if tenth else 1), hostile.AUDIO // (10 if tenth else 1), seed
    ),
    "truth": lambda tenth, seed: truth.run(
        truth.RIGS // (10 if tenth else 1), truth.PERFORMANCES // (10 if tenth else 1), seed
    ),
    "delays": lambda tenth, seed: delays.run(delays.PAIRS // (10 if tenth else 1), seed),
    "differences": lambda tenth, seed: differences.run(
        differences.PAIRS // (10 if tenth else 1), seed
    ),
    "ports": lambda tenth, seed: ports.run(ports.TIMES // (10 if tenth else 1), seed),
    "proof": lambda tenth, seed: proof.run(
        proof.FAULTY // (10 if tenth else 1), proof.CLEAN // (10 if tenth else 1), seed
    ),
    "hunt": lambda tenth, seed: hunt.run(hunt.RIGS // (10 if tenth else 1), seed),
    "loops": lambda tenth, seed: loops.run(
        loops.CHANGED // (10 if tenth else 1), loops.UNCHANGED // (10 if tenth else 1), seed
    ),
    "archives": lambda tenth, seed: archives.run(archives.ARCHIVES // (10 if tenth else 1), seed),
    "gear": lambda tenth, seed: gear.run(gear.ENTRIES // (10 if tenth else 1), seed),
    "identify": lambda tenth, seed: identification.run(
        identification.CASES // (10 if tenth else 1), seed
    ),
    "queues": lambda tenth, seed: (
        queues.run(1, seed, *queues.SHORT) if tenth else queues.run(queues.WHOLE, seed)
    ),
    "disk": lambda tenth, seed: disk.run(2 if tenth else 1),
}


def main() -> int:
    """Run what is named; 1 when something did not hold."""
    parser = argparse.ArgumentParser(prog="diaulos soak", description=__doc__)
    parser.add_argument("names", nargs="*", choices=[*CHECKS, []], metavar="|".join(CHECKS))
    parser.add_argument("--tenth", action="store_true", help="the fixed tenth that CI runs")
    parser.add_argument("--seed", type=int, default=1)
    asked = parser.parse_args()
    wrong = 0
    for name in asked.names or CHECKS:
        begun = time.monotonic()
        words, failed = CHECKS[name](asked.tenth, asked.seed)
        wrong += failed
        print(f"{words}\n  ({time.monotonic() - begun:.0f} s)", flush=True)
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
