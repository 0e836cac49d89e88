"""What a scan is limited to. A limit makes the scan quicker where it can."""

from __future__ import annotations

import json
from dataclasses import asdict, dataclass
from typing import Any

from sastrugi.errors import SastrugiError
from sastrugi.kinds import all_kinds, kind_named
from sastrugi.media import Extent, Medium
from sastrugi.recovery.findings import Finding
from sastrugi.texts import parse_json


@dataclass(frozen=True, slots=True)
class Limits:
    """Empty and zero values limit nothing. `first` and `behind` are bytes of the medium, `volume` the number of one."""

    kinds: tuple[str, ...] = ()
    groups: tuple[str, ...] = ()
    first: int = 0
    behind: int = 0
    smallest: int = 0
    largest: int = 0
    volume: int = 0
    deleted_only: bool = False

    def __post_init__(self) -> None:
        for kind in self.kinds:
            kind_named(kind)
        groups = sorted({kind.group for kind in all_kinds().values()})
        for group in self.groups:
            if group not in groups:
                raise SastrugiError(f"'{group}' is no group of kinds: there are {', '.join(groups)}")
        if self.behind and self.behind <= self.first:
            raise SastrugiError(f"the range ends at {self.behind:,}, before it begins at {self.first:,}: turn it round")
        if self.largest and self.largest < self.smallest:
            raise SastrugiError(f"--max-size {self.largest:,} is below --min-size {self.smallest:,}: turn them round")

    @property
    def any(self) -> bool:
        return self != Limits()

    def range(self, size: int) -> Extent:
        """The part of a medium that is searched."""
        behind = min(self.behind or size, size)
        return Extent(min(self.first, behind), behind - min(self.first, behind))

    def keeps(self, finding: Finding) -> bool:
        """Whether a finding is to be told."""
        if self.deleted_only and finding.state == "live":
            return False
        if self.kinds and finding.kind not in self.kinds:
            return False
        if self.groups and finding.group not in self.groups:
            return False
        if finding.size < self.smallest or (self.largest and finding.size > self.largest):
            return False
        start = finding.map.start
        return start is None or (self.first <= start and (not self.behind or start < self.behind))

    def wanted_kinds(self) -> frozenset[str] | None:
        """Kinds whose signatures are worth looking for; None for all."""
        if not (self.kinds or self.groups):
            return None
        chosen = {
            kind
            for kind in all_kinds().values()
            if (not self.kinds or kind.name in self.kinds) and (not self.groups or kind.group in self.groups)
        }
        return frozenset({kind.refines or kind.name for kind in chosen} | {kind.name for kind in chosen})

    def check(self, medium: Medium) -> None:
        """Raise SastrugiError for a range that the medium does not have."""
        if self.first >= medium.size and self.first:
            raise SastrugiError(f"{medium.path}: has {medium.size:,} bytes: --range begins behind its end")
        if self.behind and self.behind <= self.first:
            raise SastrugiError("--range ends before it begins: write FROM..TO with the smaller one first")

    def text(self) -> str:
        """As it stands in the scan file."""
        return json.dumps({key: value for key, value in asdict(self).items() if value})

    @classmethod
    def read(cls, text: str) -> Limits:
        """Raises SastrugiError for what no scan wrote."""
        try:
            values = parse_json(text or "{}")
            plain = asdict(cls())
            named: dict[str, Any] = {key: tuple(v) if isinstance(v, list) else v for key, v in values.items()}
            if any(type(value) is not type(plain[key]) for key, value in named.items()):
                raise ValueError("a value is of another type")
            return cls(**named)
        except (ValueError, TypeError, KeyError, AttributeError) as error:
            raise SastrugiError(f"the limits that the scan file keeps are damaged ({error}): scan again") from error

    def words(self) -> str:
        """In words, for people; empty if nothing is limited."""
        out = [f"kinds {', '.join(self.kinds)}"] if self.kinds else []
        out += [f"groups {', '.join(self.groups)}"] if self.groups else []
        out += [f"bytes {self.first:,} to {self.behind:,}"] if self.behind else []
        out += [f"from byte {self.first:,} on"] if self.first and not self.behind else []
        out += [f"sizes from {self.smallest:,}"] if self.smallest else []
        out += [f"sizes to {self.largest:,}"] if self.largest else []
        out += [f"volume {self.volume}"] if self.volume else []
        return "; ".join([*out, *(["no live files"] if self.deleted_only else [])])
