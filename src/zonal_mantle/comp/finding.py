"""A finding: a reading that falls outside what is acceptable."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Literal

from ..shot import SetAside, Shot
from ..words import english
from .readings_matte import Fault
from .readings_place import PlaceFault

Severity = Literal["wrong", "doubt"]
MatchFault = Literal["tone", "grain", "lens"]
RideFault = Literal["bent", "far", "apart"]
MUCH_WORSE = 1.5  # times as much as when it was set aside
_NO_AMOUNTS = re.compile(r"[Ff]rames? \d[\d–-]*|about [-−\d., ]+")
_HELD = re.compile(r"holds (\d+) of (\d+)")
_NUMBERS = re.compile(r"[-+−]?\d[\d.,]*(?:\s?%)?")


@dataclass(frozen=True)
class Finding:
    """Where something is outside of what is acceptable, on which frame, in words, and what of a part it is.

    `severity` is "wrong" where a render would show it or stop, "doubt" where somebody should look.
    """

    stage: str
    part: str
    frame: int
    words: str
    fault: Fault | PlaceFault | MatchFault | RideFault | None = None
    severity: Severity = "doubt"

    @property
    def key(self) -> str:
        """Names the finding whatever its numbers are, so that one that was set aside stays so.

        >>> Finding("Lock", "lock1", 1003, "Hills is off by 0.42 px at its worst.").key
        'Lock lock1: Hills is off by # px at its worst.'
        """
        return f"{self.stage} {self.part}: {_NUMBERS.sub('#', english(self.words))}"


def reason_set_aside(shot: Shot, finding: Finding) -> str | None:
    """Why a finding was set aside, or None where it was not, or where it is much worse by now."""
    aside = _set_aside(shot, finding)
    return aside.reason if aside is not None and not is_worse(english(finding.words), aside.words) else None


def came_back(shot: Shot, finding: Finding) -> SetAside | None:
    """What was set aside of a finding that is much worse by now."""
    aside = _set_aside(shot, finding)
    return aside if aside is not None and is_worse(english(finding.words), aside.words) else None


def is_worse(now: str, then: str) -> bool:
    """Whether an amount in words is much larger than it was then. Frames and places are no amounts, and of a lock the
    frames count that it does not hold.

    >>> is_worse("Frame 9: 0.8 px off.", "Frame 3: 0.4 px off."), is_worse("Frame 9: 0.5 px.", "Frame 3: 0.4 px.")
    (True, False)
    >>> is_worse("Lock 2 holds 30 of 48 frames.", "Lock 2 holds 44 of 48 frames.")
    True
    """
    pairs = zip(_amounts(now), _amounts(then))
    return any(new > MUCH_WORSE * old for new, old in pairs)


def _amounts(words: str) -> list[float]:
    words = _HELD.sub(lambda found: str(int(found[2]) - int(found[1])), words)
    return [abs(_number(found)) for found in _NUMBERS.findall(_NO_AMOUNTS.sub("", words))]


def _number(text: str) -> float:
    try:
        return float(text.replace("−", "-").replace(",", "").rstrip("% ").rstrip("."))
    except ValueError:  # such as a date: no amount
        return 0.0


def _set_aside(shot: Shot, finding: Finding) -> SetAside | None:
    return next((each for each in shot.set_aside if each.finding == finding.key), None)


def by_severity(findings: list[Finding], shot: Shot) -> list[Finding]:
    """The gravest first, within them by stage and frame; those that were set aside last."""
    stages = ("Source", "Matte", "Lock", "Place", "Match", "Finish")
    return sorted(
        findings,
        key=lambda each: (
            reason_set_aside(shot, each) is not None,
            each.severity != "wrong",
            stages.index(each.stage) if each.stage in stages else len(stages),
            each.frame,
        ),
    )
