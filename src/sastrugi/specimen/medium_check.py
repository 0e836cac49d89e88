"""Is a specimen's medium still the one its truth was written for? Asked before anything is scored against it."""

from __future__ import annotations

from sastrugi.errors import SpecimenError, system_words
from sastrugi.media.opening import SPECIMEN_IMAGE
from sastrugi.progress import Progress
from sastrugi.specimen.digests import blake3_of, medium_digest
from sastrugi.specimen.truth import TRUTH_FILE, Specimen


def require_unchanged(specimen: Specimen, progress: Progress) -> None:
    """Raise SpecimenError, naming the first place that is known, if the medium has other bytes than its truth says.

    A medium that nobody wrote to since its truth was written is believed; only of a newer one is the digest worked out.
    """
    try:
        written, told = ((specimen.folder / name).stat().st_mtime_ns for name in (SPECIMEN_IMAGE, TRUTH_FILE))
    except OSError as error:
        raise SpecimenError(f"{specimen.folder}: cannot be read: {system_words(error)}") from error
    if written <= told:
        return
    progress.start("medium", specimen.medium.size)
    wanted = specimen.truth.medium
    same = specimen.medium.size == wanted.size and medium_digest(specimen.medium, progress.at) == wanted.digest
    progress.finish()
    if not same:
        raise SpecimenError(
            f"{specimen.folder}: does not match its truth any more: {_where(specimen)}: "
            "build it again, or see all with 'sastrugi audit'"
        )


def _where(specimen: Specimen) -> str:
    if specimen.medium.size != specimen.truth.medium.size:
        return f"the medium has {specimen.medium.size:,} bytes, and should have {specimen.truth.medium.size:,}"
    for file in specimen.truth.files:
        if file.kept and file.untouched and file.size and blake3_of(specimen.blocks(file)) != file.blake3:
            return f"{file.path}, at {file.map.start or 0:,}, has other bytes"
    return "outside of what its files hold, the medium has other bytes"
