"""What a drill tried and what went wrong in it."""

from __future__ import annotations

import json
from dataclasses import asdict, dataclass, field
from pathlib import Path


@dataclass
class Report:
    """One drill: how often something was tried, how it went by kind, and each fault with what makes it again."""

    drill: str
    seed: int
    tried: int = 0
    went: dict[str, int] = field(default_factory=dict)
    faults: list[str] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)

    def count(self, how: str) -> None:
        """One more that went so."""
        self.tried += 1
        self.went[how] = self.went.get(how, 0) + 1

    def fault(self, words: str) -> None:
        """Something that must not happen."""
        self.faults.append(words)

    def __str__(self) -> str:
        went = ", ".join(f"{count} {how}" for how, count in sorted(self.went.items()))
        return f"{self.drill} (seed {self.seed}): {self.tried} tried ({went}), {len(self.faults)} faults"

    def write(self, folder: Path) -> None:
        """Leaves itself in a folder of results."""
        folder.mkdir(parents=True, exist_ok=True)
        (folder / f"{self.drill}.json").write_text(json.dumps(asdict(self), indent=1) + "\n", encoding="utf-8")
