"""The checks of a rig, as an experienced engineer makes them."""

from __future__ import annotations

from diaulos.rig.checks import cabling, courses, digital, drive, power, sockets, sound
from diaulos.rig.checks.registry import REGISTRY, Context, Finding, Mend, Severity

ROOMS = (power, cabling, digital, courses, drive, sound, sockets)
"""Every module that registers checks, in the order in which they are listed."""

__all__ = ["REGISTRY", "ROOMS", "Context", "Finding", "Mend", "Severity", "run_checks", "worst"]


def run_checks(context: Context) -> tuple[Finding, ...]:
    """All findings, the worst first; their order does not depend on that of the devices."""
    found = [finding for info in REGISTRY.values() for finding in info.run(context)]
    return tuple(sorted(found, key=lambda f: (-f.severity, f.id, f.key[1], f.where)))


def worst(findings: tuple[Finding, ...]) -> Severity | None:
    """The highest severity, None without findings."""
    return max((finding.severity for finding in findings), default=None)
