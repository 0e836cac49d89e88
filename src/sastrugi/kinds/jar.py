"""Java archives and Android packages: ZIP archives with a manifest. Source: JAR File Specification."""

from __future__ import annotations

import io
import zipfile

from sastrugi.kinds.base import Kind, Proof
from sastrugi.kinds.java_class import make as make_class
from sastrugi.kinds.zip import check
from sastrugi.scenario.dice import Dice


def make(dice: Dice, size: int) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as archive:
        archive.writestr(
            zipfile.ZipInfo("META-INF/MANIFEST.MF"), "Manifest-Version: 1.0\r\nMain-Class: firnline.Logger\r\n\r\n"
        )
        for n in range(3):
            archive.writestr(
                zipfile.ZipInfo(f"firnline/Reading{n}.class"), make_class(dice.fork(str(n)), 600), zipfile.ZIP_DEFLATED
            )
        archive.writestr(
            zipfile.ZipInfo("firnline/calibration.bin"), dice.noise(max(size - 2500, 64)), zipfile.ZIP_DEFLATED
        )
    return out.getvalue()


KIND = Kind(
    "jar", "Java archive", "program", ("jar", "apk", "war"), "application/java-archive", "as zip", Proof.CHECKSUM,
    refines="zip", make=make, check=check,
)  # fmt: skip
