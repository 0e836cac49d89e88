"""One small picture of any file: a thumbnail, a first page, frames, a wave form, or its text or bytes.

Runs in child processes: whatever a decoder does with a hostile file, the program goes on.
"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, cast

import numpy as np

from sastrugi.corpus.check import kind_of_file

if TYPE_CHECKING:
    from PIL.Image import Image

WIDTH, HEIGHT = 196, 132
_PAPER, _INK, _FAINT = "#ffffff", "#222222", "#999999"
_WAVE, _MIDDLE = "#0072B2", "#999999"
_LINES, _COLUMNS = 11, 35
_MOST_SOUND_FRAMES = 2000
_PILLOW = ("jpeg", "png", "gif", "bmp", "webp", "avif", "jp2", "ico", "psd")


def tile(path: Path) -> tuple[str, bytes]:
    """The kind of a file, and PNG bytes of a picture of WIDTH x HEIGHT; raises whatever the decoder raises."""
    import io

    kind = kind_of_file(path)
    out = io.BytesIO()
    _fitted(_picture(path, kind.name if kind else "", kind.group if kind else "")).save(out, "PNG")
    return kind.name if kind else "other", out.getvalue()


def bytes_tile(path: Path) -> bytes:
    """PNG bytes of a picture of the first bytes of a file that cannot be drawn as what it says it is."""
    import io

    out = io.BytesIO()
    with path.open("rb") as file:
        _fitted(_written(_hex_lines(file.read(8 * (_LINES - 2))))).save(out, "PNG")
    return out.getvalue()


def _hex_lines(head: bytes) -> list[str]:
    rows = [head[at : at + 8] for at in range(0, len(head), 8)]
    return [f"{row.hex(' '):<23}  {''.join(chr(b) if 32 <= b < 127 else '·' for b in row)}" for row in rows]


def _picture(path: Path, kind: str, group: str) -> Image:
    if kind in _PILLOW:
        return _pillow(path)
    if kind == "heic":
        from pillow_heif import open_heif

        return cast("Image", open_heif(path).to_pillow())
    if kind == "tiff":
        return _array(path)
    if kind == "dng":
        import rawpy
        from PIL import Image

        with rawpy.imread(str(path)) as photograph:
            return Image.fromarray(photograph.postprocess(half_size=True))
    if kind == "pdf":
        return _first_page(path)
    if group == "video":
        return _frames(path)
    if group == "sound":
        return _wave(path)
    return _written(_lines(path, kind))


def _fitted(picture: Image) -> Image:
    from PIL import Image

    picture = picture.convert("RGB")
    picture.thumbnail((WIDTH, HEIGHT))
    out = Image.new("RGB", (WIDTH, HEIGHT), _PAPER)
    out.paste(picture, ((WIDTH - picture.width) // 2, (HEIGHT - picture.height) // 2))
    return out


def _pillow(path: Path) -> Image:
    from PIL import Image, ImageFile

    ImageFile.LOAD_TRUNCATED_IMAGES = True  # what there is of a damaged one is worth a look
    with Image.open(path) as picture:
        picture.draft("RGB", (WIDTH * 2, HEIGHT * 2))
        return picture.convert("RGB")


def _array(path: Path) -> Image:
    from PIL import Image
    from tifffile import TiffFile

    with TiffFile(path) as file:
        pixels = file.pages[0].asarray()
    step = max(pixels.shape[0] // (2 * HEIGHT), 1)
    pixels = pixels[::step, ::step]
    if pixels.dtype != np.uint8:
        pixels = (pixels.astype(np.float64) * (255 / max(float(pixels.max()), 1))).astype(np.uint8)
    return Image.fromarray(pixels)


def _first_page(path: Path) -> Image:
    import pypdfium2

    document = pypdfium2.PdfDocument(path)
    try:
        page = document[0]
        return cast("Image", page.render(scale=2 * HEIGHT / page.get_height()).to_pil())
    finally:
        document.close()


def _frames(path: Path) -> Image:
    """Four frames of the first seconds, as a strip of two by two."""
    import av
    from PIL import Image

    pictures: list[Image.Image] = []
    with av.open(str(path)) as container:
        for n, frame in enumerate(container.decode(video=0)):
            if n % 6 == 0:
                pixels = frame.reformat(WIDTH // 2, HEIGHT // 2, format="rgb24").to_ndarray()
                pictures.append(Image.fromarray(pixels))
            if len(pictures) == 4:
                break
    out = Image.new("RGB", (WIDTH, HEIGHT), _PAPER)
    for n, picture in enumerate(pictures):
        out.paste(picture, (n % 2 * (WIDTH // 2), n // 2 * (HEIGHT // 2)))
    if not pictures:
        raise ValueError("no frame can be decoded")
    return out


def _wave(path: Path) -> Image:
    import av
    from PIL import Image, ImageDraw

    parts = []
    with av.open(str(path)) as container:
        resampler = av.AudioResampler("s16", "mono", 8000)
        for n, frame in enumerate(container.decode(audio=0)):
            parts += [piece.to_ndarray().ravel() for piece in resampler.resample(frame)]
            if n > _MOST_SOUND_FRAMES:
                break
    samples = np.concatenate(parts).astype(np.float32) / 32768
    columns = np.array_split(samples, WIDTH) if len(samples) >= WIDTH else [samples]
    out = Image.new("RGB", (WIDTH, HEIGHT), _PAPER)
    draw = ImageDraw.Draw(out)
    middle = HEIGHT // 2
    loudest = max(float(np.abs(samples).max()), 1e-6)
    draw.line((0, middle, WIDTH, middle), _MIDDLE)
    for x, column in enumerate(columns):
        high, low = (int(middle - float(v) / loudest * middle * 0.9) for v in (column.max(), column.min()))
        draw.line((x, high, x, low), _WAVE)
    return out


def _lines(path: Path, kind: str) -> list[str]:
    """The first lines of what a file says, or of its bytes."""
    text = ""
    if kind == "docx":
        from docx import Document

        text = "\n".join(paragraph.text for paragraph in Document(str(path)).paragraphs[:30])
    elif kind == "xlsx":
        from openpyxl import load_workbook

        rows = load_workbook(path, read_only=True).worksheets[0].iter_rows(max_row=_LINES, values_only=True)
        text = "\n".join("  ".join("" if cell is None else str(cell) for cell in row) for row in rows)
    elif kind == "pptx":
        from pptx import Presentation

        shapes = [shape for slide in Presentation(str(path)).slides for shape in slide.shapes if shape.has_text_frame]
        text = "\n".join(shape.text_frame.text for shape in shapes)
    elif kind in ("odt", "ods", "odp"):
        from odf import teletype
        from odf import text as odf_text
        from odf.opendocument import load

        text = "\n".join(teletype.extractText(p) for p in load(str(path)).getElementsByType(odf_text.P)[:30])
    elif kind in ("zip", "jar", "epub"):
        import zipfile

        with zipfile.ZipFile(path) as archive:
            text = "\n".join(f"{info.file_size:>8,} {info.filename}" for info in archive.infolist()[:_LINES])
    else:
        text = _head_of(path)
    return [line[:_COLUMNS] for line in text.splitlines()[:_LINES]]


def _head_of(path: Path) -> str:
    """The first bytes of a file as the text that they are, or else in hexadecimal."""
    with path.open("rb") as file:
        head = file.read(2048)
    try:
        text = head[: 2046 & ~1].decode(
            "utf-16" if head[:2] in (b"\xff\xfe", b"\xfe\xff") else "utf-8",
            "strict" if len(head) < 2048 else "ignore",
        )
    except UnicodeDecodeError:
        text = "\0"
    return "\n".join(_hex_lines(head[: 8 * _LINES])) if any(ord(char) < 9 for char in text) else text


def _written(lines: list[str]) -> Image:
    from PIL import Image, ImageDraw

    from sastrugi.report.fonts import font

    out = Image.new("RGB", (WIDTH, HEIGHT), _PAPER)
    draw = ImageDraw.Draw(out)
    for n, line in enumerate(lines):
        draw.text((4, 3 + n * 11.5), line, _INK, font(9))
    return out
