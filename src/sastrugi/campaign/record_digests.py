"""What a record of a trial is about, as digests, so that it can be shown that nothing was changed since; and where it
ran.

All digests are BLAKE3, in hexadecimal.
"""

from __future__ import annotations

import json
import os
import platform
from importlib import metadata, resources
from pathlib import Path
from typing import Any

from blake3 import blake3
from pydantic import BaseModel, ConfigDict

from sastrugi.campaign.engines import Engine
from sastrugi.safety import entries_below
from sastrugi.scoring.scorecard import Scorecard
from sastrugi.specimen.digests import blake3_file
from sastrugi.specimen.truth import TRUTH_FILE

_MEASURING = ("sastrugi", "numpy", "scipy", "blake3", "pydantic")
"""Packages whose version may matter to a figure."""
_CPU_INFO, _MODEL = Path("/proc/cpuinfo"), "model name"


class _Value(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class TrialHost(_Value):
    """The machine that a trial ran on: system, processor, its cores, bytes of memory, and versions of what measured."""

    system: str
    processor: str
    cores: int
    memory: int
    python: str
    versions: dict[str, str]


class TrialDigests(_Value):
    """Digests of the specimen's truth, of the results as they came back, of the scorecard, and of the program's file
    (of the built-in engine: of all of this package); empty where there is none."""

    truth: str
    results: str
    scorecard: str
    program: str = ""


def this_host() -> TrialHost:
    """The machine that this process runs on; nothing that names it."""
    return TrialHost(
        system=f"{platform.system()} {platform.release()}", processor=_processor(), cores=os.cpu_count() or 1,
        memory=_memory(), python=platform.python_version(),
        versions={name: metadata.version(name) for name in _MEASURING},
    )  # fmt: skip


def _processor() -> str:
    try:
        lines = _CPU_INFO.read_text("utf-8", "replace").splitlines()
    except OSError:
        lines = []
    model = next((line.partition(":")[2].strip() for line in lines if line.startswith(_MODEL)), "")
    return f"{platform.machine()} {model}".strip()


def _memory() -> int:
    try:
        return os.sysconf("SC_PHYS_PAGES") * os.sysconf("SC_PAGE_SIZE")
    except (AttributeError, OSError, ValueError):
        return 0


def document_digest(document: Any) -> str:
    """The digest of a JSON document, however it is laid out: of its text with keys in order and no spaces."""
    text = json.dumps(document, ensure_ascii=False, sort_keys=True, separators=(",", ":"))
    return blake3(text.encode("utf-8", "surrogatepass")).hexdigest()


def scorecard_digest(card: Scorecard) -> str:
    return document_digest(card.model_dump(mode="json", by_alias=True))


def truth_digest(specimen: Path) -> str:
    return blake3_file(specimen / TRUTH_FILE)


def results_digest(folder: Path) -> str:
    """The digest of all regular files below a folder: of their paths, sizes and contents, in order of the paths."""
    whole = blake3()
    for path in sorted(Path(one.path) for one in entries_below(folder) if one.is_file(follow_symlinks=False)):
        try:
            told = blake3_file(path)
        except OSError:
            told = "unreadable"
        name = os.fsencode(path.relative_to(folder).as_posix())
        whole.update(b"%d %s %s\n" % (len(name), name, told.encode()))
    return whole.hexdigest()


def program_digest(engine: Engine) -> str:
    """The digest of the file that an engine starts; of the built-in one, of all of this package."""
    if engine.built_in:
        whole = blake3()
        package = Path(str(resources.files("sastrugi")))
        for path in sorted(path for path in package.rglob("*") if path.suffix in (".py", ".json", ".toml")):
            whole.update(path.relative_to(package).as_posix().encode() + b"\0" + path.read_bytes())
        return whole.hexdigest()
    try:
        return blake3_file(Path(engine.command({"medium": "", "results": "", "scratch": ""})[0]).resolve())
    except OSError:
        return ""
