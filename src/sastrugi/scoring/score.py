"""Score the results of any program against the truth of a specimen."""

from __future__ import annotations

from collections import Counter
from pathlib import Path

from sastrugi.errors import SastrugiError
from sastrugi.progress import Progress
from sastrugi.recovery.select import Selection
from sastrugi.safety import require_outside
from sastrugi.scoring.bytes_route import ByBytes, candidates_by_bytes
from sastrugi.scoring.extents_route import candidates_by_extents
from sastrugi.scoring.matching import Candidate, assign
from sastrugi.scoring.names import NameVerdict, compare_names
from sastrugi.scoring.results import Result, read_findings, read_folder
from sastrugi.scoring.scorecard import (
    ContentVerdict,
    FileScore,
    ResultClass,
    ResultScore,
    Scorecard,
    figure,
    run_length,
)
from sastrugi.specimen.truth import Specimen, TruthFile
from sastrugi.units import format_size

_NAME_REASONS = {"name": "right content, folder lost", "near": "right content, name damaged"}
RESULT_CLASSES: tuple[ResultClass, ...] = ("reference", "live", "stale", "copy", "fragment", "noise")


def score(specimen: Specimen, results: Path, progress: Progress, selection: Selection | None = None) -> Scorecard:
    """Score a folder of results (by its bytes) or findings of a scan file, those of a selection (by their extents)."""
    files = [file for file in specimen.truth.files if file.kept]
    if results.is_dir():
        require_outside(results, specimen.folder, "the specimen itself")
        items = read_folder(results)
        found = candidates_by_bytes(specimen, files, items, progress)
    elif results.is_file():
        items = read_findings(results, selection or Selection("lost"))
        found = candidates_by_extents(files, items)
    else:
        raise SastrugiError(f"{results}: there is neither a folder of results nor a scan file")
    return _Judgement(specimen, files, items, found).scorecard(results)


class _Judgement:
    """Assignments, verdicts and figures for one set of results."""

    def __init__(self, specimen: Specimen, files: list[TruthFile], results: list[Result], found: ByBytes) -> None:
        self._specimen, self._files, self._results, self._found = specimen, files, results, found
        in_set = {n for n, file in enumerate(files) if file.lost}
        wanted = [c for c in found.candidates if c.reference in in_set and (c.in_place or c.exact)]
        self._set = sorted(in_set)
        self._answers = assign(wanted)
        used = {c.result for c in self._answers.values()}
        others = [
            c
            for c in found.candidates
            if c.reference not in in_set and c.result not in used and (c.in_place or c.exact)
        ]
        self._other_answers = assign(others)
        self._foreign = self._names_on_other_content(used)

    def _names_on_other_content(self, used: set[int]) -> dict[int, Candidate]:
        """Names that came back on content that is nothing of the reference's."""
        open_files = [n for n in self._set if n not in self._answers]
        free = [result for result in self._results if result.number not in used]
        by_name: dict[str, list[Result]] = {}
        for result in free:
            by_name.setdefault(result.path.rpartition("/")[2].casefold(), []).append(result)
        candidates = [
            Candidate(result.number, n, 0, verdict)
            for n in open_files
            for result in by_name.get(self._files[n].name.casefold(), ())
            if (verdict := compare_names(result.path, self._files[n].path)) >= NameVerdict.NEAR
        ]
        return assign(candidates)

    def scorecard(self, results: Path) -> Scorecard:
        scores = [self._file_score(n) for n in self._set]
        with_content = [s for s in scores if s.size]
        classes = self._classes()
        counts = Counter(item.is_ for item in classes)
        claimed = sum(result.size for result in self._results)
        total_bytes = sum(s.size for s in with_content)
        known = counts["reference"] + counts["live"] + counts["stale"]
        attainable = [s for s in with_content if s.ceiling_bytes == 1.0 or s.intact]
        return Scorecard(
            specimen=self._specimen.truth.recipe,
            set="lost",
            results_from=results.name,
            intact=figure(sum(s.intact for s in with_content), len(with_content), len(attainable)),
            complete=figure(
                sum(s.completeness for s in with_content),
                len(with_content),
                sum(s.ceiling_bytes for s in with_content),
                False,
            ),
            complete_bytes=figure(
                sum(s.completeness * s.size for s in with_content),
                total_bytes,
                sum(s.ceiling_bytes * s.size for s in with_content),
                False,
            ),
            named=figure(sum(s.named for s in scores), len(scores), sum(s.ceiling_name == "full" for s in scores)),
            all_three=figure(
                sum(s.intact and s.named for s in with_content),
                len(with_content),
                sum(s.ceiling_name == "full" for s in attainable),
            ),
            precision=known / len(classes) if classes else None,
            inflation=claimed / self._specimen.medium.size,
            classes={name: counts[name] for name in RESULT_CLASSES},
            files=tuple(scores),
            results=tuple(classes),
        )

    def _file_score(self, n: int) -> FileScore:
        file = self._files[n]
        answer = self._answers.get(n)
        foreign = self._foreign.get(n)
        chosen = answer or foreign
        result = self._results[chosen.result] if chosen else None
        content = self._content(file, answer, foreign)
        return FileScore(
            id=file.id,
            path=file.path,
            kind=file.kind,
            size=file.size,
            content=content,
            completeness=(answer.in_place / file.size if file.size else 1.0) if answer else 0.0,
            name=chosen.name.word if chosen else "none",
            result=result.path if result else None,
            first_wrong=answer.first_wrong if answer else None,
            damage=run_length(answer.blocks) if answer else "",
            ceiling_bytes=file.ceiling.bytes,
            ceiling_name=file.ceiling.name,
            beyond_ceiling=bool(answer and answer.beyond_ceiling),
            reason=self._reason(file, content, chosen, result),
        )

    def _content(self, file: TruthFile, answer: Candidate | None, foreign: Candidate | None) -> ContentVerdict:
        if answer is None:
            return "foreign" if foreign else "missing"
        if answer.exact:
            return "intact"
        size = self._results[answer.result].size
        if answer.in_place == file.size:
            return "padded"
        return "cut" if size < file.size and answer.in_place == size else "mixed"

    def _reason(self, file: TruthFile, content: ContentVerdict, chosen: Candidate | None, result: Result | None) -> str:
        """Why a file fell short, in words; empty if it did not."""
        gone = 1 - file.ceiling.bytes
        takers = " and ".join(taker.rpartition("/")[2] for taker in file.gone_to[:2])
        if gone and content != "intact":
            share = "all" if gone == 1 else f"{gone:.0%}"
            return f"{share} of its bytes gone, overwritten by {takers or 'other data'}"
        if content == "missing":
            return "there, but not found"
        if content == "foreign":
            return "its name came back on other content"
        if content == "cut" and result is not None:
            return f"found, cut at {result.size:,} of {file.size:,} bytes"
        if content == "padded" and result is not None:
            return f"whole, then {format_size(result.size - file.size)} too many"
        if content == "mixed" and chosen is not None:
            return (
                f"wrong from byte {chosen.first_wrong:,} on"
                if chosen.first_wrong is not None
                else "right and wrong parts"
            )
        if chosen is not None and chosen.name != NameVerdict.FULL:
            return _NAME_REASONS.get(chosen.name.word, "right content, name lost")
        return ""

    def _classes(self) -> list[ResultScore]:
        answered = {c.result: c.reference for c in self._answers.values()}
        others = {c.result: c.reference for c in self._other_answers.values()}
        out: list[ResultScore] = []
        for result in self._results:
            n = result.number
            held = self._found.holds.get(n, [])
            if n in answered:
                is_, of = "reference", answered[n]
            elif n in others:
                is_, of = ("live" if self._files[others[n]].standing else "stale"), others[n]
            elif self._found.exact.get(n):
                is_, of = "copy", self._found.exact[n][0]
            elif held:
                is_, of = "fragment", held[0]
            else:
                is_, of = "noise", -1
            out.append(
                ResultScore(path=result.path, size=result.size, is_=is_, of=self._files[of].path if of >= 0 else None)
            )
        return out
