"""Recipes that lay a volume down and lose what is on it, by each way that there is."""

from __future__ import annotations

from pathlib import Path

from tests.conftest import Program

RECIPE = """recipe = 1
name = "server"
title = "The station's server"
seed = {seed}
medium.size = "64 MiB"
steps = [
    {{do = "partition", table = "{table}", volumes = [{{name = "logs", size = "40 MiB"}}, {{name = "spare"}}]}},
    {{do = "format", volume = "logs", file_system = "{variant}", cluster = "{block}", acts_as = "{habits}", label = "LOGS"}},
    {{do = "format", volume = "spare", file_system = "fat16"}},
    {{do = "store", volume = "logs", into = "/Notes", corpus = {{files = 8, kinds = ["csv", "json"], size = "30 B..5 KiB"}}}},
    {{do = "store", volume = "logs", into = "/Tracks", corpus = {{files = 5, kinds = ["jpeg", "flac"], size = "20 KiB..200 KiB"}}, pieces = 3}},
    {{do = "store", volume = "logs", into = "/Tracks/Long", corpus = {{files = 2, kinds = ["wav"], size = "900 KiB..1 MiB"}}}},
    {{do = "link", volume = "logs", what = ["/Notes/*1*"], into = "/Linked", to = "the same {{n}}{{suffix}}"}},
    {loss}
]
"""


def deletion(habits: str) -> str:
    return f'{{do = "delete", volume = "logs", what = ["/Notes/*", "/Tracks"], acts_as = "{habits}"}}'


def emptied_bin(habits: str) -> str:
    what = '["/Notes/*.csv", "/Tracks"]'
    return (
        f'{{do = "bin", volume = "logs", what = {what}, acts_as = "{habits}"}}, '
        f'{{do = "empty-bin", volume = "logs", acts_as = "{habits}"}}'
    )


def damage(structure: str) -> str:
    return f'{{do = "damage", volume = "logs", what = "{structure}"}}'


DROPPED = '{do = "drop-partition", volume = "logs"}'
USED_ON = '{do = "churn", volume = "logs", write = "3 MiB", delete = "2 MiB", size = "4 KiB..60 KiB"}'


def lay_down_search_and_score(
    sastrugi: Program, work: Path, variant: str, block: str, habits: str, loss: str, table: str, seed: int, spared: int
) -> None:
    """Books and bytes agree; what can come back does (but for one in `spared`, if that is not 0), under its name where
    that stands."""
    text = RECIPE.format(seed=seed, table=table, variant=variant, block=block, habits=habits, loss=loss)
    (work / "r.toml").write_text(text)
    sastrugi("build", "r.toml", "--into", "s", cwd=work)
    sastrugi("audit", "s", cwd=work)
    sastrugi("scan", "s", "--out", "s.scan", cwd=work)
    card = sastrugi("score", "s", "s.scan", "--json", "--out", "c.json", cwd=work).json
    assert not [file["path"] for file in card["files"] if file["beyond_ceiling"] or file["name_beyond_ceiling"]]
    lost = [file for file in card["files"] if file["ceiling_bytes"] == 1.0]
    missing = [file for file in lost if file["content"] != "intact"]
    assert len(lost) >= 4 and len(missing) <= (len(lost) // spared if spared else 0), [
        (file["path"], file["reason"]) for file in missing
    ]
    named = [file for file in lost if file["ceiling_name"] == "full" and file["content"] == "intact"]
    wrong = [file for file in named if file["name"] != "full"]
    assert len(wrong) <= len(named) // 10, [(file["path"], file["name"], file["result"]) for file in wrong]
