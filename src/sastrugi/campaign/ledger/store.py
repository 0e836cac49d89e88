"""A ledger, opened: trials go in once, and can be listed, read and plotted."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, fields
from importlib import resources
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import zstandard
from sqlalchemy import Connection, Engine, create_engine, event, func, insert, inspect, select
from sqlalchemy.exc import DatabaseError, IntegrityError, OperationalError, SQLAlchemyError
from sqlalchemy.pool import NullPool

from sastrugi.campaign.ledger.chain import Kept, Verified, digests_of, link_of, verify
from sastrugi.campaign.ledger.tables import chain, metadata, scorecards, trials
from sastrugi.errors import LedgerError, SastrugiError

if TYPE_CHECKING:
    from sastrugi.campaign.record import Trial
    from sastrugi.scoring.scorecard import Scorecard

_PATIENCE = 30
"""Seconds to wait while another process writes."""
_VERSION_TABLE = "alembic_version"
NEWEST, _OLDER = "0002", ("0001",)
"""The last migration (what this program writes), and those before."""
_LARGEST = 1 << 30
_MOST = float(1 << 63)
_PASSWORD = re.compile(r"(://[^:/@]*):[^@]*@")

T = TypeVar("T")


@dataclass(frozen=True, slots=True)
class LedgerRow:
    """What is listed of a trial. Figures are shares of the set; None where it is empty."""

    id: str
    began: str
    specimen: str
    identity: str
    file_systems: str
    losses: str
    engine: str
    engine_version: str
    by_hand: bool
    outcome: str
    campaign: str
    cell: str
    files: int
    intact: float
    attainable: float
    complete: float
    named: float
    all_three: float
    named_of: int
    noise: int
    results: int
    seconds: float | None
    cpu: float | None
    memory: float | None
    seed: int
    parameters: str
    replaces: str
    number: int
    replaced: bool

    def share(self, figure: str) -> float | None:
        """A figure as a share of its set."""
        of = self.named_of if figure == "named" else self.files
        value: float = getattr(self, figure)
        return value / of if of else None


@dataclass(frozen=True, slots=True)
class Sums:
    """Trials of one engine on one specimen under one label (a version, a day, a trial): how many there are, and their
    figures added up; `timed` of them have `seconds`."""

    engine: str
    specimen: str
    cell: str
    identity: str
    label: str
    trials: int
    files: int
    intact: float
    attainable: float
    named: float
    named_of: int
    seconds: float | None
    timed: int


R = TypeVar("R", LedgerRow, Sums)


def _checked(row: R, told: str) -> R:
    """A row, if all of it is of the sort that its column is for. Raises LedgerError where somebody put in what is not:
    a database takes anything."""
    for one in fields(row):
        value, kind = getattr(row, one.name), str(one.type)
        if kind == "str":
            good = isinstance(value, str)
        elif kind == "bool":
            good = value in (0, 1)
        elif value is None:
            good = "None" in kind
        else:
            good = isinstance(value, int | float) and 0 <= value < _MOST and (kind != "int" or value == int(value))
        if not good:
            raise LedgerError(f"{told}: is damaged: a trial says {str(value)[:20]!r} in its column {one.name}")
    return row


_NOT_LISTED = {"record", "folder", "record_digest", "scorecard_digest", "before", "link"}
_corrected = select(trials.c.replaces).where(trials.c.replaces != "")
_LISTED = [
    *(column for column in trials.columns if column.name not in _NOT_LISTED),
    trials.c.id.in_(_corrected).label("replaced"),
]


class Ledger:
    """One ledger. Use it in a `with`."""

    def __init__(self, engine: Engine, told: str) -> None:
        self._engine, self.told = engine, told

    def __enter__(self) -> Ledger:
        return self

    def __exit__(self, *_: object) -> None:
        self._engine.dispose()

    def add(self, trial: Trial, card: Scorecard, folder: Path | None = None) -> bool:
        """Keep a trial with its scorecard, and where its files are; False if it is there already. Raises LedgerError
        where another record has its number: what ended is never changed."""
        from sastrugi.campaign.record import parse_trial

        row = _row(trial, card) | {"folder": str(folder.resolve())[:1000] if folder else ""}
        row["record_digest"], row["scorecard_digest"] = digests_of(trial, card)
        text = card.model_dump_json(by_alias=True).encode("utf-8", "backslashreplace")
        packed = zstandard.ZstdCompressor(level=3).compress(text)

        def work(connection: Connection) -> bool:
            known = connection.execute(select(trials.c.record).where(trials.c.id == trial.id)).first()
            if known is not None:
                if parse_trial(known[0], f"trial {trial.id[:8]}") != trial:
                    raise LedgerError(
                        f"{self.told}: holds another record of trial {trial.id[:8]}: what has ended is never changed"
                    )
                return False
            count, link = connection.execute(select(chain.c.count, chain.c.link)).one()
            row["number"], row["before"] = count + 1, link
            row["link"] = link_of(row["number"], link, row["record_digest"], row["scorecard_digest"])
            connection.execute(insert(trials).values(**row))
            connection.execute(insert(scorecards).values(trial=trial.id, scorecard=packed))
            connection.execute(chain.update().values(count=row["number"], link=row["link"]))
            return True

        try:
            return self._do(work, writing=True)
        except IntegrityError as error:
            if trial.id in self.numbers():  # another process kept it in the meantime
                return False
            raise LedgerError(_words(error, self.told)) from error

    def rows(
        self, where: Mapping[str, str] | None = None, limit: int = 0, newest_first: bool = True
    ) -> list[LedgerRow]:
        """Trials by columns with their values (patterns with * and ? are allowed), the newest first."""
        order = trials.c.began.desc() if newest_first else trials.c.began
        query = select(*_LISTED).order_by(order, trials.c.id)
        for name, pattern in (where or {}).items():
            query = query.where(_fits(name, pattern))
        if limit:
            query = query.limit(limit)
        return self._do(lambda connection: [_checked(LedgerRow(*row), self.told) for row in connection.execute(query)])

    def sums(self, by: str, where: Mapping[str, str] | None = None) -> list[Sums]:
        """The trials of each engine and specimen together by version, by day, or one by one; the first seen first."""
        t = trials.c
        label = {"version": t.engine_version, "day": func.substr(t.began, 1, 10), "trial": t.id}[by]
        keys = (t.engine, t.specimen, t.cell, t.identity, label)
        added = (t.files, t.intact, t.attainable, t.named, t.named_of, t.seconds)
        query = select(*keys, func.count(), *map(func.sum, added), func.count(t.seconds)).group_by(*keys)
        query = query.where(t.id.not_in(_corrected))
        for name, pattern in (where or {}).items():
            query = query.where(_fits(name, pattern))
        query = query.order_by(func.min(t.began), label)
        return self._do(lambda connection: [_checked(Sums(*row), self.told) for row in connection.execute(query)])

    def verify(self, noted: str = "", files: bool = True) -> Verified:
        """Check that nothing of it was touched (see chain.verify)."""
        query = select(trials, scorecards.c.scorecard).outerjoin(scorecards, scorecards.c.trial == trials.c.id)

        def work(connection: Connection) -> Verified:
            count, link = connection.execute(select(chain.c.count, chain.c.link)).one()
            rows = connection.execution_options(yield_per=100).execute(query.order_by(trials.c.number))
            return verify((_kept(row._mapping) for row in rows), count, link, noted, files)

        return self._do(work)

    def numbers(self) -> set[str]:
        """The numbers of all trials."""
        return self._do(lambda connection: {row[0] for row in connection.execute(select(trials.c.id))})

    def count(self) -> int:
        return self._do(
            lambda connection: int(connection.execute(select(func.count()).select_from(trials)).scalar_one())
        )

    def read(self, beginning: str) -> tuple[Trial, Scorecard]:
        """The trial whose number begins so. Raises LedgerError if there is none, or more than one."""
        from sastrugi.campaign.record import parse_trial

        if not re.fullmatch(r"[0-9a-f]{1,32}", beginning):
            raise LedgerError(f"'{beginning[:40]}' is no number of a trial: 'sastrugi ledger list' shows them")
        query = select(trials.c.id, trials.c.record, scorecards.c.scorecard).join(
            scorecards, scorecards.c.trial == trials.c.id
        ).where(trials.c.id.startswith(beginning)).limit(2)  # fmt: skip
        found = self._do(lambda connection: connection.execute(query).all())
        if len(found) != 1:
            told = "no trial" if not found else "more than one trial"
            raise LedgerError(f"{told} in {self.told} has a number that begins with {beginning}")
        number, record, packed = found[0]
        return parse_trial(record, f"trial {number[:8]}"), _unpacked(packed, f"trial {number[:8]}")

    def _do(self, work: Callable[[Connection], T], writing: bool = False) -> T:
        with _telling(self.told, but=IntegrityError), self._engine.begin() as connection:
            if writing and self._engine.dialect.name == "sqlite":
                connection.exec_driver_sql("BEGIN IMMEDIATE")
            elif writing:
                connection.exec_driver_sql("SELECT pg_advisory_xact_lock(7274748)")
            return work(connection)


def _fits(name: str, pattern: str) -> Any:
    column = trials.c[name]
    if any(char in pattern for char in "*?"):
        text = pattern.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_").replace("*", "%").replace("?", "_")
        return column.like(text, escape="\\")
    return column == pattern


def _row(trial: Trial, card: Scorecard) -> dict[str, Any]:
    measures = trial.measures
    return {
        "id": trial.id, "began": trial.began, "specimen": trial.specimen.name[:80],
        "identity": trial.specimen.identity, "file_systems": " ".join(trial.specimen.file_systems)[:120],
        "losses": " ".join(trial.specimen.losses)[:120], "engine": trial.engine.name[:80],
        "engine_version": trial.engine.version[:80], "by_hand": trial.by_hand, "outcome": trial.outcome,
        "campaign": trial.campaign[:80], "cell": trial.cell[:200], "files": card.intact.of_set,
        "intact": card.intact.value, "attainable": card.intact.of_ceiling, "complete": card.complete.value,
        "named": card.named.value, "all_three": card.all_three.value, "named_of": card.named.of_set,
        "noise": card.classes.get("noise", 0), "results": card.counted_results, "seconds": measures.seconds,
        "cpu": measures.cpu, "memory": measures.memory, "record": trial.model_dump(mode="json"),
        "seed": trial.specimen.seed, "parameters": _told(trial.specimen.parameters)[:300], "replaces": trial.replaces,
    }  # fmt: skip


def _told(parameters: Mapping[str, str]) -> str:
    return " ".join(f"{name}={value}" for name, value in parameters.items())


def _kept(row: Mapping[Any, Any]) -> Kept:
    """A row as it is to be verified."""
    from sastrugi.campaign.record import parse_trial
    from sastrugi.scoring.reading import parse_scorecard

    columns = {column.name: row[column.name] for column in trials.columns}
    told, record = f"trial {str(columns['id'])[:8]}", columns["record"]
    try:
        if row["scorecard"] is None:
            return Kept(columns, record, None, problem="its scorecard is missing")
        text = _text_of(row["scorecard"], told)
        card, trial = parse_scorecard(text, told), parse_trial(record, told)
    except SastrugiError as error:
        return Kept(columns, record, None, problem=str(error).partition(": ")[2])
    expected = _row(trial, card)
    del expected["record"]
    return Kept(columns, record, json.loads(text), trial, card, expected)


def _unpacked(packed: bytes, told: str) -> Scorecard:
    from sastrugi.scoring.reading import parse_scorecard

    return parse_scorecard(_text_of(packed, told), told)


def _text_of(packed: bytes, told: str) -> bytes:
    try:
        return zstandard.ZstdDecompressor().decompress(packed, max_output_size=_LARGEST)
    except zstandard.ZstdError as error:
        raise LedgerError(f"{told}: its scorecard is damaged") from error


def open_ledger(where: str, new: bool = True) -> Ledger:
    """The ledger at a path (SQLite) or a URL (`postgresql://…`), made where there is none (if `new`), and brought up to
    this version. Raises LedgerError where it cannot be reached, is none, or is of a later version."""
    told = _PASSWORD.sub(r"\1:…@", where)
    url = where
    if "://" not in where:
        path = Path(where)
        if path.is_dir():
            raise LedgerError(f"{where}: is a folder: name a file for the ledger")
        if not new and not path.exists():
            raise LedgerError(f"{where}: there is no ledger yet: 'sastrugi trial' makes it, or name one with --ledger")
        if not path.absolute().parent.is_dir():
            raise LedgerError(f"{where}: there is no folder for it: make that first")
        url = f"sqlite:///{path.absolute()}"
    elif where.startswith("postgresql://"):
        url = where.replace("postgresql://", "postgresql+psycopg://", 1)
    try:
        # A process forks workers and lives for days: a connection lasts as long as one piece of work.
        engine = create_engine(url, poolclass=NullPool, **_arguments(url))
    except (SQLAlchemyError, ValueError) as error:
        raise LedgerError(f"{told}: is no ledger's address: name a file, or postgresql://user@host/name") from error
    except ImportError as error:
        raise LedgerError(
            f"{told}: this needs a driver that is not installed: pip install 'sastrugi[postgres]'"
        ) from error
    if engine.dialect.name == "sqlite":
        event.listen(engine, "connect", _prepare_sqlite)
    with _telling(told):
        _bring_up(engine, told)
    return Ledger(engine, told)


def _arguments(url: str) -> dict[str, Any]:
    if url.startswith("sqlite"):
        return {"connect_args": {"timeout": _PATIENCE}}
    return {"connect_args": {"connect_timeout": 10}}


def _prepare_sqlite(connection: Any, _record: object) -> None:
    connection.isolation_level = None  # transactions begin where this module says so
    connection.execute("PRAGMA foreign_keys = ON")


def _bring_up(engine: Engine, told: str) -> None:
    """Run the migrations that are missing; in one transaction, and one process at a time."""
    with engine.connect() as connection:
        tables = inspect(connection).get_table_names()
        version = None
        if _VERSION_TABLE in tables:
            version = connection.exec_driver_sql(f"SELECT version_num FROM {_VERSION_TABLE}").scalar()
        if version == NEWEST and set(metadata.tables) <= set(tables):
            return
        if version is not None and str(version) > NEWEST:
            raise LedgerError(f"{told}: is a ledger of a later version of this program ({version}): use that one")
        if version is not None and version not in _OLDER:
            raise LedgerError(f"{told}: is damaged: it has not the tables of a ledger")
        if version is None and set(tables) - {_VERSION_TABLE}:
            raise LedgerError(f"{told}: is a database of something else: name another file for the ledger")
    migrate(engine)


def migrate(engine: Engine, to: str = "head", down: bool = False) -> None:
    """Bring the tables to a later version (or `down` to an earlier one) by Alembic's scripts. Two processes may come
    here at once: the second finds it done."""
    from alembic import command
    from alembic.config import Config

    config = Config()
    config.set_main_option("script_location", str(resources.files("sastrugi.campaign.ledger") / "migrations"))
    with engine.connect() as connection:
        if engine.dialect.name == "sqlite":
            connection.exec_driver_sql("BEGIN IMMEDIATE")
        else:
            connection.exec_driver_sql("SELECT pg_advisory_xact_lock(7274747)")
        config.attributes["connection"] = connection
        (command.downgrade if down else command.upgrade)(config, to)
        connection.commit()


@contextmanager
def _telling(told: str, but: type[SQLAlchemyError] | tuple[()] = ()) -> Iterator[None]:
    """Say what the database says in words of ours; `but` is for the caller."""
    try:
        yield
    except but:
        raise
    except SQLAlchemyError as error:
        raise LedgerError(_words(error, told)) from error
    except (ValueError, TypeError, OverflowError, RecursionError) as error:  # what stands there is nothing we wrote
        raise LedgerError(f"{told}: is damaged: {' '.join(str(error).split())[:80]}") from error


def _words(error: SQLAlchemyError, told: str) -> str:
    """What the database says, in words of ours where it is something usual."""
    text = " ".join(str(getattr(error, "orig", None) or error).split())
    if "locked" in text:
        return f"{told}: another program holds it locked: try again when that has ended"
    if "not a database" in text or "malformed" in text:
        return f"{told}: is no ledger, or is damaged"
    if "readonly" in text or "read-only" in text:
        return f"{told}: cannot be written: no permission"
    if "unable to open" in text:
        return f"{told}: cannot be opened: no permission"
    if isinstance(error, OperationalError):
        return f"{told}: the database cannot be reached or used: {text[:160]}"
    if isinstance(error, DatabaseError):
        return f"{told}: the database refuses: {text[:160]}"
    return f"{told}: cannot be used: {text[:160]}"
