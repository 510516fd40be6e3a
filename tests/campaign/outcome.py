"""What a part of the campaign found."""

from dataclasses import dataclass, field


@dataclass
class Outcome:
    """Cases and tries of one part, and in words what failed and what of the user's was lost."""

    part: str
    cases: int = 0
    tries: int = 0
    failures: list[str] = field(default_factory=list)
    lost: list[str] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)

    def row(self) -> str:
        notes = "; ".join(self.notes)
        return f"| {self.part} | {self.cases} | {self.tries:,} | {len(self.failures)} | {len(self.lost)} | {notes} |"
