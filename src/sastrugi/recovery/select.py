"""Which findings of a scan are meant: one selection, the same in every command."""

from __future__ import annotations

from dataclasses import dataclass

from sastrugi.errors import SastrugiError
from sastrugi.kinds import all_kinds
from sastrugi.recovery.findings import Finding, ScanFile

STATES = ("live", "deleted", "found", "lost")


@dataclass(frozen=True, slots=True)
class Selection:
    """`state` is one of STATES (lost: deleted or found) or None for all; `kinds` empty means all."""

    state: str | None = None
    kinds: tuple[str, ...] = ()
    min_confidence: float = 0.0

    def pick(self, scan: ScanFile) -> list[Finding]:
        """The findings selected, by folder and name; raises SastrugiError if the selection makes no sense."""
        if self.state is not None and self.state not in STATES:
            raise SastrugiError(f"'{self.state}' is no state of a finding: there are {', '.join(STATES)}")
        known = {*all_kinds(), "other", *(row.kind for row in scan.findings())} if self.kinds else set()
        for kind in self.kinds:
            if kind not in known:
                raise SastrugiError(f"'{kind}' is not a kind: there are {', '.join(sorted(known))}")
        conditions = ["confidence >= ?"]
        values: list[float | str] = [self.min_confidence]
        if self.state == "lost":
            conditions.append("state != 'live'")
        elif self.state:
            conditions.append("state = ?")
            values.append(self.state)
        if self.kinds:
            conditions.append(f"kind IN ({','.join('?' * len(self.kinds))})")
            values += self.kinds
        return list(scan.findings(" AND ".join(conditions), tuple(values), "folder, name, number"))
