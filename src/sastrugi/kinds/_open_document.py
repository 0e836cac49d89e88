"""OpenDocument files, made and opened through odfpy. Source: OASIS OpenDocument 1.2, part 3 (packages)."""

from __future__ import annotations

import io
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

from sastrugi.kinds.zip import check as check_archive
from sastrugi.scenario.dice import Dice


def new_document(make: Callable[[], Any]) -> Any:
    """A new document. The library remembers the name spaces of all documents before it: they are forgotten first."""
    from odf.element import Element

    Element.namespaces.clear()
    return make()


def finish(document: Any, dice: Dice) -> bytes:
    """The saved document with fixed times; `mimetype` stays first and stored, as the package format asks."""
    from odf import dc, meta

    for element in list(document.meta.childNodes):
        document.meta.removeChild(element)
    document.meta.addElement(meta.CreationDate(text=dice.moment().isoformat()))
    document.meta.addElement(dc.Creator(text=dice.person()))
    saved, out = io.BytesIO(), io.BytesIO()
    document.write(saved)
    with zipfile.ZipFile(saved) as old, zipfile.ZipFile(out, "w") as new:
        for info in old.infolist():
            method = zipfile.ZIP_STORED if info.filename == "mimetype" else zipfile.ZIP_DEFLATED
            new.writestr(zipfile.ZipInfo(info.filename, (1980, 1, 1, 0, 0, 0)), old.read(info), method)
    return out.getvalue()


def check(path: Path) -> None:
    from odf.opendocument import load

    check_archive(path)
    load(str(path))
