"""Electronic books: a ZIP archive of pages. Source: W3C EPUB 3.3, section 4 (Open Container Format)."""

from __future__ import annotations

import io
import zipfile
from pathlib import Path

from sastrugi.kinds._pictures import filling_photographs
from sastrugi.kinds.base import Kind, Proof
from sastrugi.kinds.zip import check as check_archive
from sastrugi.scenario.dice import Dice

_XHTML = 'xmlns="http://www.w3.org/1999/xhtml"'
_CONTAINER = """<?xml version="1.0"?>
<container version="1.0" xmlns="urn:oasis:names:tc:opendocument:xmlns:container"><rootfiles>
<rootfile full-path="book.opf" media-type="application/oebps-package+xml"/></rootfiles></container>
"""


def make(dice: Dice, size: int) -> bytes:
    """A season's log as a book, with photographs that bring it to its size."""
    from html import escape

    pictures = filling_photographs(dice, size - 8_000)
    title = escape(dice.caption())
    entries: list[tuple[str, bytes]] = [("META-INF/container.xml", _CONTAINER.encode())]
    manifest, spine = ['<item id="nav" href="nav.xhtml" media-type="application/xhtml+xml" properties="nav"/>'], []
    for n in range(2 + len(pictures)):
        image = f'<img src="view-{n}.jpg" alt="view {n}"/>' if n < len(pictures) else ""
        text = escape(dice.log_text(min(max(size // 4, 300), 4000))).replace("\n", "<br/>")
        body = f"<body><p>{text}</p>{image}</body>"
        page = f"<html {_XHTML}><head><title>{title}</title></head>{body}</html>"
        entries.append((f"page-{n}.xhtml", page.encode()))
        manifest.append(f'<item id="p{n}" href="page-{n}.xhtml" media-type="application/xhtml+xml"/>')
        spine.append(f'<itemref idref="p{n}"/>')
        if n < len(pictures):
            entries.append((f"view-{n}.jpg", pictures[n]))
            manifest.append(f'<item id="v{n}" href="view-{n}.jpg" media-type="image/jpeg"/>')
    nav = (
        f'<html {_XHTML} xmlns:epub="http://www.idpf.org/2007/ops"><head><title>Contents</title></head>'
        f'<body><nav epub:type="toc"><ol><li><a href="page-0.xhtml">{title}</a></li></ol></nav></body></html>'
    )
    metadata = (
        f'<dc:identifier id="id">firnline-{dice.number(1, 10**9)}</dc:identifier><dc:title>{title}</dc:title>'
        f'<dc:language>en</dc:language><meta property="dcterms:modified">{dice.moment().isoformat()}Z</meta>'
    )
    package = (
        '<?xml version="1.0"?><package xmlns="http://www.idpf.org/2007/opf" version="3.0" unique-identifier="id">'
        f'<metadata xmlns:dc="http://purl.org/dc/elements/1.1/">{metadata}</metadata>'
        f"<manifest>{''.join(manifest)}</manifest><spine>{''.join(spine)}</spine></package>"
    )
    entries += [("nav.xhtml", nav.encode()), ("book.opf", package.encode())]
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as archive:
        archive.writestr(zipfile.ZipInfo("mimetype"), "application/epub+zip", zipfile.ZIP_STORED)
        for name, content in entries:
            archive.writestr(zipfile.ZipInfo(name), content, zipfile.ZIP_DEFLATED)
    return out.getvalue()


def check(path: Path) -> None:
    from defusedxml.ElementTree import fromstring

    check_archive(path)
    with zipfile.ZipFile(path) as archive:
        container = fromstring(archive.read("META-INF/container.xml"))
        root = next(element.attrib["full-path"] for element in container.iter() if element.tag.endswith("rootfile"))
        for item in fromstring(archive.read(root)).iter("{http://www.idpf.org/2007/opf}item"):
            content = archive.read(item.attrib["href"])
            if item.attrib["media-type"].endswith("xml"):
                fromstring(content)


KIND = Kind(
    "epub",
    "electronic book",
    "document",
    ("epub",),
    "application/epub+zip",
    "as zip",
    Proof.CHECKSUM,
    refines="zip",
    make=make,
    check=check,
)
