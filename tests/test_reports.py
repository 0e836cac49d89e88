"""A scorecard as a page and in the formats of other programs; the Python API."""

from __future__ import annotations

import io
import json
import re
import shutil
import subprocess
from html.parser import HTMLParser
from itertools import pairwise
from pathlib import Path
from xml.etree import ElementTree

import pandas as pd
import pytest

import sastrugi as api
from tests.conftest import Program

DOCS = Path(__file__).parent.parent / "docs"


@pytest.fixture(scope="module")
def bad(demo: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Results with every sort of shortfall, and a name that would like to be markup."""
    results = tmp_path_factory.mktemp("bad") / "bad <b>results"
    shutil.copytree(demo / "results", results)
    picture, sound = results / "DCIM/101FIRN/FRN00005.JPG", next(results.rglob("*.wav"))
    picture.write_bytes(picture.read_bytes()[:30_000])
    sound.write_bytes(sound.read_bytes()[:40_000] + bytes(50_000) + sound.read_bytes()[90_000:])
    next(results.rglob("*.zip")).unlink()
    (results / "<script>alert(1)<script>.bin").write_bytes(b"x" * 5000)
    return results


@pytest.fixture(scope="module")
def written(sastrugi: Program, demo: Path, bad: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("reports")
    outs = [word for end in ("html", "md", "csv", "parquet", "json", "xml") for word in ("--out", folder / f"r.{end}")]
    ran = sastrugi("report", demo / "specimen", bad, *outs, "--floor", "intact=0.9", "--json", code=1)
    assert len(ran.json["written"]) == 6 and "intact" in ran.json["below_the_floor"][0]
    return folder


def test_a_page_of_very_many_files_has_a_table_beside_it(sastrugi: Program, written: Path, tmp_path: Path) -> None:
    """It lists as many as a browser likes, those that fell short first; the table has all of them."""
    card = json.loads((written / "r.json").read_text("utf-8"))
    whole = [file for file in card["files"] if file["content"] == "intact" and file["name"] == "full"]
    more = [{**whole[n % len(whole)], "id": 1000 + n, "path": f"/more/{n}.csv"} for n in range(5200)]
    card["files"] = more + card["files"]
    (tmp_path / "many.json").write_text(json.dumps(card), "utf-8")
    ran = sastrugi("report", tmp_path / "many.json", "--out", tmp_path / "m.html", "--json")
    assert [Path(one).name for one in ran.json["written"]] == ["m.html", "m.files.csv"]
    text = (tmp_path / "m.html").read_text("utf-8")
    rows = text.split('id="table"')[1].split("<tbody>")[1].count("<tr>")
    every = pd.read_csv(tmp_path / "m.files.csv")
    assert rows == 5000 and 'href="m.files.csv"' in text and len(text) < 3 << 20
    assert set(every["path"].dropna()) == {file["path"] for file in card["files"]}
    short = [file["path"] for file in card["files"] if file["content"] != "intact"]
    assert short and all(text.split('id="table"')[1].count(path) for path in short)
    asked = sastrugi(
        "report", tmp_path / "many.json", "--out", tmp_path / "n.html", "--out", tmp_path / "n.csv", "--json"
    )
    assert len(asked.json["written"]) == 2 and 'href="n.csv"' in (tmp_path / "n.html").read_text("utf-8")


class Page(HTMLParser):
    """What a page is made of."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.tags: list[tuple[str, dict[str, str | None]]] = []
        self.words: list[str] = []
        self.feed(text)

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.tags.append((tag, dict(attrs)))

    def handle_data(self, data: str) -> None:
        self.words.append(data)


def test_the_page_needs_nothing_else_and_can_be_read_by_anybody(written: Path) -> None:
    text = (written / "r.html").read_text("utf-8")
    page = Page(text)
    for tag, attributes in page.tags:
        for name in ("src", "href", "xlink:href"):
            value = attributes.get(name) or "#"
            assert value.startswith(("#", "data:image/png")), (tag, value)
        if tag == "img":
            assert attributes.get("alt")
        if tag == "svg":
            assert attributes.get("role") == "img" and attributes.get("aria-label")
        if tag == "th":
            assert attributes.get("scope")
    assert "@import" not in text and page.tags[0] == ("html", {"lang": "en"})
    levels = [int(tag[1]) for tag, _ in page.tags if re.fullmatch(r"h[1-6]", tag)]
    assert levels[0] == 1 and all(b - a <= 1 for a, b in pairwise(levels))
    assert "<script>alert" not in text and "<b>results" not in text
    for colour in re.findall(r"[^-]color: (#[0-9a-f]{3,6})\b", text):  # WCAG 2.2, 1.4.3: 4.5 to 1 on white
        assert contrast(colour) >= 4.5, colour
    words = "".join(page.words)
    for told in ("Below the floor: intact", "there, but not found", "found, cut at 30,000", "wrong from byte"):
        assert told in words


def contrast(colour: str) -> float:
    """Against white, by the formula of WCAG 2.2."""
    digits = colour[1:] if len(colour) == 7 else "".join(c * 2 for c in colour[1:])
    parts = [int(digits[n : n + 2], 16) / 255 for n in (0, 2, 4)]
    linear = [p / 12.92 if p <= 0.04045 else ((p + 0.055) / 1.055) ** 2.4 for p in parts]
    return 1.05 / (0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2] + 0.05)


@pytest.mark.drivers
def test_a_browser_shows_it_without_complaint(written: Path, tmp_path: Path) -> None:
    """In headless Chromium: no console message, the scripts run, nothing is wider than a phone."""
    browser = shutil.which("chromium") or shutil.which("chromium-browser")
    if browser is None:
        pytest.skip("no chromium here")
    probe = """<script>
      document.getElementById('filter').value = 'frn'; document.getElementById('filter').dispatchEvent(new Event('input'));
      document.querySelectorAll('#table th button')[2].click();
      document.body.dataset.wide = document.documentElement.scrollWidth - window.innerWidth;
    </script></body>"""
    (tmp_path / "p.html").write_text((written / "r.html").read_text("utf-8").replace("</body>", probe), "utf-8")
    words = [
        "--headless",
        "--no-sandbox",
        "--disable-gpu",
        "--enable-logging=stderr",
        "--window-size=400,900",
        "--dump-dom",
    ]
    home = {"HOME": str(tmp_path), "PATH": "/usr/bin:/bin"}
    done = subprocess.run(
        [browser, *words, (tmp_path / "p.html").as_uri()], capture_output=True, text=True, timeout=120, env=home
    )
    assert "CONSOLE" not in done.stderr, done.stderr
    shown = Page(done.stdout)
    assert "6 of 17 files" in "".join(shown.words)
    assert ("aria-sort", "ascending") in [item for _, attributes in shown.tags for item in attributes.items()]
    body = next(attributes for tag, attributes in shown.tags if tag == "body")
    assert int(body["data-wide"] or 0) <= 16  # a scroll bar
    sizes = [float(a["data-v"] or 0) for t, a in shown.tags if t == "td" and "data-v" in a][::3]
    assert sizes == sorted(sizes) and len(sizes) == 17


def test_formats_for_other_programs_say_the_same(written: Path) -> None:
    card = json.loads((written / "r.json").read_text("utf-8"))
    paths = [f["path"] for f in card["files"]]
    frame = pd.read_parquet(io.BytesIO((written / "r.parquet").read_bytes()))
    table = pd.read_csv(written / "r.csv")
    others = [one["path"] for one in card["results"] if one["is_"] in ("noise", "fragment", "copy", "stale")]
    for rows in (frame, table):  # results that nobody asked for stand behind the files, without a path
        assert sorted(rows[rows["path"].isna()]["result"]) == sorted(others)
    frame, table = (rows[rows["path"].notna()] for rows in (frame, table))
    assert list(frame["path"]) == list(table["path"]) == paths
    assert list(frame["completeness"]) == pytest.approx([f["completeness"] for f in card["files"]])
    suite = ElementTree.parse(written / "r.xml").getroot()
    failed = {case.get("name") for case in suite if case.find("failure") is not None}
    assert suite.get("tests") == str(len(paths) + 1) and len(suite.findall("testcase")) == len(paths) + 1
    assert all(path in (suite.findtext("system-out") or "") for path in others)
    assert failed == {"FRN00005.JPG", "core-probe-001.wav", "hoar-ash-002.zip", "floors"}
    assert [case.get("name") for case in suite if case.find("skipped") is not None] == ["FRN00002.JPG", "FRN00003.JPG"]
    summary = (written / "r.md").read_text("utf-8")
    assert "Below the floor" in summary and "| /Loggers/hoar-ash-002.zip |" in summary


def test_the_same_results_give_the_same_page(
    sastrugi: Program, demo: Path, written: Path, bad: Path, tmp_path: Path
) -> None:
    sastrugi("report", demo / "specimen", bad, "--out", tmp_path / "r.html", "--floor", "intact=0.9", code=1)
    assert (tmp_path / "r.html").read_bytes() == (written / "r.html").read_bytes()
    assert (
        "no format of this name" in sastrugi("report", demo / "specimen", bad, "--out", tmp_path / "r.doc", code=2).err
    )
    sastrugi("report", demo / "specimen", demo / "card.scan", "--out", tmp_path / "s.html")
    text = (tmp_path / "s.html").read_text("utf-8")
    assert "All files" in text and text.count('alt="/DCIM/101FIRN/FRN00003.JPG as it') == 2, (
        "pictures of a finding, straight from the medium"
    )


def test_the_published_schema_is_that_of_the_scorecard() -> None:
    """If this fails, the format changed: write the file anew, and raise the version where old readers would break."""
    published = json.loads((DOCS / "formats" / "scorecard.schema.json").read_text("utf-8"))
    assert published == api.Scorecard.model_json_schema()


def test_the_example_of_the_python_api_runs(demo: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    (tmp_path / "specimen").symlink_to(demo / "specimen")
    (tmp_path / "results").symlink_to(demo / "results")
    monkeypatch.chdir(tmp_path)
    for code in re.findall(r"```python\n(.*?)```", (DOCS / "howto" / "python.md").read_text("utf-8"), re.DOTALL):
        exec(compile(code, "python.md", "exec"), {})
    card = api.score("specimen", "results")
    assert isinstance(card, api.Scorecard) and len(card.frame()) == 17
    with pytest.raises(api.SastrugiError, match="no specimen"):
        api.score(tmp_path, "results")
    with pytest.raises(AttributeError):
        api.nothing  # noqa: B018
