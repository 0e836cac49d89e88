"""The judgement: the results of any program, matched with the truth of a specimen and told file by file."""

from __future__ import annotations

from collections import Counter
from pathlib import Path

from sastrugi.errors import SastrugiError
from sastrugi.progress import Progress
from sastrugi.recovery.select import Selection
from sastrugi.safety import require_outside
from sastrugi.scoring.bench_files import BenchFiles
from sastrugi.scoring.calibration import calibrate
from sastrugi.scoring.candidates import CandidateSet, ShiftedMatch, find_candidates
from sastrugi.scoring.claimed_extents import compare_places
from sastrugi.scoring.claims import Claims, read_claims
from sastrugi.scoring.damage import shortfall
from sastrugi.scoring.decode_check import differences, open_results
from sastrugi.scoring.elsewhere import below_root, folders_above, from_elsewhere
from sastrugi.scoring.groups import figures_of, group_of
from sastrugi.scoring.matching import Candidate, assign
from sastrugi.scoring.names import NameVerdict, compare_names, worth_of_name
from sastrugi.scoring.results import Folder, Result, read_findings, read_folder
from sastrugi.scoring.scorecard import (
    Calibration,
    Cause,
    ContentVerdict,
    FileScore,
    OpensWord,
    ResultClass,
    ResultScore,
    Scorecard,
)
from sastrugi.scoring.sets import FileSet, parse_set
from sastrugi.scoring.sources import Source, bytes_of, original_of
from sastrugi.scoring.times import TimeWord, compare_times
from sastrugi.specimen.medium_check import require_unchanged
from sastrugi.specimen.truth import Specimen, TruthFile
from sastrugi.units import format_size, percent, printable

_MOST_NAMED = 32
"""Results of one name that are looked at for one file."""
_NAME_REASONS = {"name": "right content, folder lost", "near": "right content, name damaged"}
RESULT_CLASSES: tuple[ResultClass, ...] = ("reference", "live", "stale", "copy", "fragment", "noise", "bench")


def judge(
    specimen: Specimen,
    results: Path,
    progress: Progress,
    selection: Selection | None = None,
    files_of: str = "lost",
    table: Path | None = None,
    leave_out: tuple[str, ...] = (),
    copied: bool = False,
    root: str | None = None,
    claims: Claims | None = None,
) -> Judgement:
    """Judge a folder of results, or findings of a scan file (those of a selection), which nobody need have extracted.

    `files_of` is the set of reference files (see sets.parse_set); `table` tells what the program said of its results
    (see claims), or `claims` where that was read already; files of the folder that fit a pattern of `leave_out` are no
    results. `copied`: the folder came from another computer (see elsewhere); `root`: the folder among the results from
    which their paths count. Raises SastrugiError where something cannot be used.
    """
    chosen = parse_set(files_of, specimen.truth)
    files = [file for file in specimen.truth.files if file.kept]
    if not results.is_dir() and not results.is_file():
        raise SastrugiError(f"{results}: there is neither a folder of results nor a scan file")
    if results.is_dir():
        require_outside(results, specimen.folder, "the specimen itself")
        require_outside(specimen.folder, results, "the folder of results, which would be scored with it")
    require_unchanged(specimen, progress)
    assumed: tuple[str, ...] = ()
    if results.is_dir():
        folder = read_folder(results, read_claims(table, results) if claims is None else claims, leave_out)
        if root:
            folder, assumed = below_root(folder, root)
        if copied:
            folder, more = from_elsewhere(folder, files)
            assumed += more
    else:
        wanted = (selection or Selection()).with_default_state("any" if chosen.standing else "lost")
        folder = Folder(read_findings(results, wanted, specimen.medium), [])
    found = find_candidates(specimen, files, folder.results, progress)
    return Judgement(specimen, files, printable(results.name), folder, found, chosen, assumed)


class Judgement:
    """Assignments, verdicts and figures for one set of results."""

    def __init__(
        self,
        specimen: Specimen,
        files: list[TruthFile],
        results_from: str,
        folder: Folder,
        found: CandidateSet,
        chosen: FileSet,
        assumed: tuple[str, ...] = (),
    ) -> None:
        self._assumed = assumed
        self._results_from = results_from
        self._specimen, self._files, self._results, self._found = specimen, files, folder.results, found
        self._chosen, self._unreadable, self._folder = chosen, folder.unreadable, folder
        self._file_systems = {
            (v.name, life.number): life.file_system for v in specimen.truth.volumes for life in v.lives
        }
        in_set = {n for n, file in enumerate(files) if chosen.takes(file)}
        wanted = [c for c in found.candidates if c.reference in in_set and (c.in_place or c.exact)]
        self._set = sorted(in_set)
        self._number = {files[n].id: n for n in self._set}
        self._answers = assign(wanted)
        used = {c.result for c in self._answers.values()}
        others = [
            c
            for c in found.candidates
            if c.reference not in in_set and c.result not in used and (c.in_place or c.exact)
        ]
        self._other_answers = assign(others)
        self._foreign = self._names_on_other_content(used)
        self._shifted: dict[int, ShiftedMatch] = {}
        for one in sorted(found.shifted, key=lambda one: one.right):
            self._shifted[one.reference] = one
        self._opens: dict[int, tuple[OpensWord, str]] = {}
        self._nearness: dict[int, float | None] = {}

    def _names_on_other_content(self, used: set[int]) -> dict[int, Candidate]:
        """Names that came back on content that is nothing of the reference's."""
        open_files = [n for n in self._set if n not in self._answers]
        free = [result for result in self._results if result.number not in used]
        by_name: dict[str, list[Result]] = {}
        for result in free:
            path = result.named.casefold().strip("/").split("/")
            for key in {path[-1], "/".join(path[-2:])}:
                by_name.setdefault(key, []).append(result)
        candidates: list[Candidate] = []
        for n in open_files:
            path = self._files[n].path.casefold().strip("/").split("/")
            named = {r.number: r for key in ("/".join(path[-2:]), path[-1]) for r in by_name.get(key, ())[:_MOST_NAMED]}
            verdicts = {number: compare_names(r.named, self._files[n].path) for number, r in named.items()}
            candidates += [
                Candidate(number, n, 0, verdict, sure=named[number].confidence or 0.0)
                for number, verdict in verdicts.items()
                if verdict >= NameVerdict.NEAR
            ]
        return assign(candidates)

    def scorecard(self) -> Scorecard:
        scores = [self._file_score(n) for n in self._set]
        classes = self._classes()
        counts = Counter(item.is_ for item in classes)
        claimed = sum(result.size for result in self._results)
        known = counts["reference"] + counts["live"] + counts["stale"]
        counted = len(classes) - counts["bench"]
        return Scorecard(
            specimen=self._specimen.truth.recipe,
            identity=self._specimen.truth.medium.digest,
            title=self._specimen.truth.title,
            set=self._chosen.name,
            results_from=self._results_from,
            **figures_of(scores),
            live_copies=sum(s.size > 0 and s.ceiling_bytes == 1 and s.ceiling_live > 0 for s in scores),
            names_beyond=sum(s.name_beyond_ceiling for s in scores),
            names=Counter(s.name for s in scores if s.has_content),
            places=Counter(s.place for s in scores if s.result),
            times=Counter(s.times for s in scores if s.result),
            opens=Counter(s.opens for s in scores if s.result),
            precision=known / counted if counted else None,
            inflation=claimed / self._specimen.medium.size,
            calibration=self._calibration(classes, scores),
            classes={name: counts[name] for name in RESULT_CLASSES},
            files=tuple(scores),
            results=tuple(classes),
            unreadable=tuple(self._unreadable),
            table_rows=self._folder.table_rows,
            table_matched=self._folder.table_matched,
            left_out=self._folder.left_out,
            assumed=(*folders_above(self._whole_names()), *self._assumed),
        )

    def _whole_names(self) -> list[tuple[str, str]]:
        """Names of results and references that are the same to the last folder."""
        whole = ((n, c) for n, c in self._answers.items() if c.name == NameVerdict.FULL)
        return [(self._results[c.result].named, self._files[n].path) for n, c in whole]

    def of(self, number: int) -> tuple[TruthFile, FileScore, Result | None]:
        """A file of the set, by its number in the truth; the verdict about it, and the result that answers for it."""
        n = self._number[number]
        chosen = self._answers.get(n) or self._foreign.get(n)
        return self._files[n], self._file_score(n), self._results[chosen.result] if chosen else None

    def bench_findings(self) -> list[int]:
        """The numbers of the findings that are the bench's own files."""
        return [self._results[n].finding for n, one in enumerate(self._classes()) if one.is_ == "bench"]

    def open_results(self, progress: Progress) -> None:
        """Let other libraries decode each result that answers for a file."""
        answering = [self._results[c.result] for c in self._answers.values() if self._results[c.result].size]
        tasks = [(result.number, bytes_of(self._specimen, result, result.path)) for result in answering]
        self._opens = open_results(tasks, progress)
        pairs: dict[int, tuple[Source, Source]] = {}
        for n, candidate in self._answers.items():
            result, file = self._results[candidate.result], self._files[n]
            if not candidate.exact and group_of(file.kind) in ("picture", "sound"):
                pairs[n] = original_of(self._specimen, file), bytes_of(self._specimen, result, file.name)
        self._nearness = dict(zip(pairs, differences(list(pairs.values()), progress), strict=True))

    @property
    def files(self) -> list[TruthFile]:
        """The files of the set."""
        return [self._files[n] for n in self._set]

    def _file_score(self, n: int) -> FileScore:
        file = self._files[n]
        answer = self._answers.get(n)
        foreign = self._foreign.get(n)
        chosen = answer or foreign
        result = self._results[chosen.result] if chosen else None
        content = self._content(file, answer, foreign)
        moved = self._shifted.get(n) if answer is None else None
        cause, reason = self._reason(file, content, chosen, moved)
        has_content = bool(answer or (foreign and moved and moved.result == foreign.result))
        name = chosen.name.word if chosen else "none"
        # What answers for nothing: a candidate of which no byte is right.
        held = answer or Candidate(-1, n, 0, NameVerdict.NONE)
        wrong_runs, longest_right = shortfall(held.damage, file.size) if answer else (0, 0)
        return FileScore(
            id=file.id,
            path=file.path,
            kind=file.kind,
            group=group_of(file.kind),
            volume=file.volume,
            file_system=self._file_systems.get((file.volume, file.life), ""),
            life=file.life,
            loss=file.end,
            pieces=len(file.extents),
            size=file.size,
            content=content,
            completeness=held.in_place / file.size if file.size else float(bool(answer)),
            name=name,
            result=result.path if result else None,
            first_wrong=held.first_wrong,
            damage=held.damage,
            wrong_runs=wrong_runs,
            longest_right=longest_right,
            times=self._times(file, result if answer else None),
            place=compare_places(result.map, file) if result and answer else "untold",
            opens=self._opens.get(result.number, ("untested", ""))[0] if result else "untested",
            nearness=self._nearness.get(n),
            confidence=result.confidence if result else None,
            ceiling_bytes=file.ceiling.bytes,
            ceiling_name=file.ceiling.name,
            ceiling_live=file.ceiling.live,
            ceiling_tells=self._ceiling_tells(file),
            copies=file.copies,
            has_content=has_content,
            beyond_ceiling=held.beyond_ceiling,
            # The content itself tells its type, wherever it stands.
            name_beyond_ceiling=has_content
            and worth_of_name(name) > max(worth_of_name(file.ceiling.name), worth_of_name("type")),
            shift=moved.shift if moved else None,
            shifted=moved.right / file.size if moved else 0.0,
            cause=cause,
            reason=reason,
        )

    def _times(self, file: TruthFile, result: Result | None) -> TimeWord:
        found = result.modified if result else None
        return compare_times(found, file.modified, self._file_systems.get((file.volume, file.life), ""))

    def _calibration(self, classes: list[ResultScore], scores: list[FileScore]) -> Calibration | None:
        """Of every result whose confidence was stated, and that is not the bench's, whether it is a whole file."""
        intact = {s.result for s in scores if s.intact}
        exact = {self._results[number].path for number, files in self._found.exact.items() if files}
        return calibrate(
            [
                (item.confidence, item.path in intact or (item.is_ != "reference" and item.path in exact))
                for item in classes
                if item.confidence is not None and item.is_ != "bench"
            ]
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

    def _reason(
        self, file: TruthFile, content: ContentVerdict, chosen: Candidate | None, moved: ShiftedMatch | None
    ) -> tuple[Cause, str]:
        """Why a file fell short; ("none", "") if it did not."""
        if moved is not None:
            by = f"{abs(moved.shift):,} bytes {'late' if moved.shift > 0 else 'early'}"
            return "moved", f"its bytes came back {by}, in {self._results[moved.result].path}"
        gone = 1 - file.ceiling.bytes
        if gone and content != "intact":
            takers = " and ".join(taker.rpartition("/")[2] for taker in file.gone_to[:2])
            share = "all" if gone == 1 else percent(gone)
            return "gone", f"{share} of its bytes gone, overwritten by {takers or 'other data'}"
        if content == "missing" or chosen is None:
            where = f"only in the live file {file.copies[0]}" if file.copies else "there"
            return "not found", f"{where}, but not found"
        size = self._results[chosen.result].size
        if content == "foreign":
            return "foreign", "its name came back on other content"
        if content == "cut":
            return "cut", f"found, cut at {size:,} of {file.size:,} bytes"
        if content == "padded":
            return "padded", f"whole, then {format_size(size - file.size)} too many"
        if content == "mixed":
            known = chosen.first_wrong is not None
            return "mixed", f"wrong from byte {chosen.first_wrong:,} on" if known else "right and wrong parts"
        if chosen.name != NameVerdict.FULL:
            return "name", _NAME_REASONS.get(chosen.name.word, "right content, name lost")
        return "none", ""

    def _ceiling_tells(self, file: TruthFile) -> bool:
        """Whether what stands of a file tells whose it is (see Contents.tells)."""
        if file.ceiling.intact or not file.ceiling.bytes:
            return file.ceiling.intact
        content = self._found.contents.twins[file.blake3][0]
        return self._found.contents.tells(content, file.ceiling.name in ("full", "name"))

    def _stands(self, n: int) -> bool:
        """Whether a file is on its volume now, be it under another of its names."""
        file = self._files[n]
        twins = self._found.contents.twins[file.blake3] if file.end == "unlinked" else []
        return file.standing or any(self._files[k].standing and self._files[k].map == file.map for k in twins)

    def _classes(self) -> list[ResultScore]:
        bench = BenchFiles(self._specimen)
        answered = {c.result: c.reference for c in self._answers.values()}
        others = {c.result: c.reference for c in self._other_answers.values()}
        out: list[ResultScore] = []
        for result in self._results:
            n = result.number
            held = self._found.holds.get(n, [])
            is_: ResultClass
            if n in answered:
                is_, of = "reference", answered[n]
            elif n in others:
                is_, of = ("live" if self._stands(others[n]) else "stale"), others[n]
            elif self._found.exact.get(n):
                is_, of = "copy", self._found.exact[n][0]
            elif held:
                is_, of = "fragment", held[0]
            else:
                is_, of = "noise", -1
            if of >= 0 and bench.is_one(self._files[of]):
                is_ = "bench"
            elif is_ in ("fragment", "noise") and bench.includes(result):
                is_, of = "bench", -1
            out.append(
                ResultScore(
                    path=result.path,
                    size=result.size,
                    is_=is_,
                    of=self._files[of].path if of >= 0 else None,
                    confidence=result.confidence,
                    problem=self._found.unreadable.get(n, ""),
                )
            )
        return out
