"""File systems are declared in one place: no other code knows one by its name."""

from __future__ import annotations

import ast
import io
import re
import subprocess
import sys
import tempfile
import tokenize
from pathlib import Path

import pytest

import sastrugi
from sastrugi.volumes.registry import family_of, file_systems, time_grain, title_of, variant_named, variant_names

ROOT = Path(sastrugi.__file__).parent
FOLDERS = ("specimen", "recovery", "scoring", "report", "cli", "media", "campaign", "standins", "corpus")
NAMES = re.compile(r"(?<![a-z])(v?fat(12|16|32)?|exfat|ntfs|ext[234]|hfs|apfs|udf|iso9660)(?![a-z])", re.I)


def names_in(source: str) -> list[str]:
    """Names of file systems in code: in identifiers and in texts; not in comments, nor in what documents."""
    tree = ast.parse(source)
    documents = {
        (node.value.lineno, node.value.col_offset)
        for node in ast.walk(tree)
        if isinstance(node, ast.Expr) and isinstance(node.value, ast.Constant) and isinstance(node.value.value, str)
    }
    found: list[str] = []
    for token in tokenize.generate_tokens(io.StringIO(source).readline):
        if token.type == tokenize.NAME or (token.type == tokenize.STRING and token.start not in documents):
            found += [match[0] for part in token.string.split("_") for match in NAMES.finditer(part)]
    return found


def test_the_search_finds_what_it_should() -> None:
    assert names_in('"""FAT says so."""\nx = 1  # as on exFAT\n') == []
    assert names_in('x = {"fat32": 1}') == ["fat32"]
    assert names_in("from sastrugi.volumes.exfat import read\n") == ["exfat"]
    assert names_in("open_fat(1); fatal = father = 'fate'") == ["fat"]


@pytest.mark.parametrize("folder", FOLDERS)
def test_no_file_system_is_known_by_its_name(folder: str) -> None:
    known = {
        str(path.relative_to(ROOT)): found
        for path in sorted((ROOT / folder).rglob("*.py"))
        if (found := names_in(path.read_text("utf-8")))
    }
    assert not known


def test_a_scan_starts_without_what_reads_other_file_systems(demo: Path) -> None:
    """Each further file system would cost every scan its start."""
    program = (
        "import sys; from sastrugi.api import scan; from pathlib import Path;"
        f"scan(Path({str(demo / 'specimen')!r}), Path('a.scan'));"
        "print(*sorted(m for m in sys.modules if m.startswith('sastrugi.volumes.') and m.endswith(('.read', '.write'))))"
    )
    with tempfile.TemporaryDirectory() as folder:
        words = [sys.executable, "-c", program]
        ran = subprocess.run(words, cwd=folder, capture_output=True, text=True, check=True)
    read = {name.split(".")[2] for name in ran.stdout.split() if name.endswith(".read")}
    assert read == {name for name, one in file_systems().items() if one.lives is not None}, (
        "lives are told by all of these"
    )


def test_every_family_is_declared_whole() -> None:
    folders = sorted(path.parent.name for path in (ROOT / "volumes").glob("[!_]*/__init__.py"))
    assert list(file_systems()) == folders
    seen: set[str] = set()
    for family, one in file_systems().items():
        assert one.family == family and one.variants and one.mounts
        assert one.lives is None or all(unit & (unit - 1) == 0 and unit >= 512 for unit in one.lives.units)
        for variant in one.variants:
            assert family_of(variant.name) is one and variant_named(variant.name) is variant
            assert title_of(variant.name) == variant.title and variant.name == variant.title.lower()
            assert 0 < variant.partition_type < 256 and time_grain(variant.name) == variant.time_grain > 0
            # Where no tool of the system makes such volumes, none is said to.
            assert bool(one.tools) == (variant.mkfs is not None)
            assert variant.mkfs is None or variant.mkfs(4096, 512, "FIRN")[0].startswith("mk")
            seen.add(variant.name)
    assert set(variant_names()) == seen
    assert family_of("unknown") is None and variant_named("unknown") is None
    assert title_of("unknown") == "unknown" and time_grain("unknown") == 2.0
