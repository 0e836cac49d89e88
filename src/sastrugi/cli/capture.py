"""`sastrugi capture`: a device or image becomes an image in any container."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from sastrugi.cli.console import JsonOption, medium_at, progress, quoted, say, show_json

_HELP = """Copy a device or an image into a new image: raw, split, VHD or qcow2. The source is only read; what cannot be
read is tried again in smaller steps, then noted.

\b
Example: sastrugi capture /dev/sdx --out card.img
The file's name chooses the container (.vhd, .qcow2, .001), or --container does. Leaves with status 3 if parts of the
source could not be read. A capture that was stopped goes on with --go-on.
Where --out is a device, it is written over, which --write-device must confirm; it is refused while it is mounted."""


def register(app: typer.Typer) -> None:
    app.command("capture", help=_HELP)(capture)


def capture(
    source: Annotated[Path, typer.Argument(help="A device, an image or a specimen folder.", metavar="SOURCE")],
    out: Annotated[Path, typer.Option("--out", help="The new image.", metavar="FILE")],
    container: Annotated[
        str | None,
        typer.Option(help="raw, split, vhd, vhd-fixed, qcow2 or qcow2-packed [default: by the name]", metavar="NAME"),
    ] = None,
    part_size: Annotated[
        str, typer.Option("--part-size", help="Size of the parts of a split image.", metavar="SIZE")
    ] = "2 GiB",
    retries: Annotated[
        int, typer.Option(help="Further tries for each sector that fails.", min=0, max=100, metavar="COUNT")
    ] = 2,
    go_on: Annotated[bool, typer.Option("--go-on", help="Continue a capture that was stopped.")] = False,
    write_device: Annotated[
        bool, typer.Option("--write-device", help="Yes, --out is a device, and what is on it may go.")
    ] = False,
    as_json: JsonOption = False,
) -> None:
    from sastrugi.errors import DestinationError
    from sastrugi.media import open_medium
    from sastrugi.media.capture import capture as run_capture
    from sastrugi.media.containers import container_for
    from sastrugi.media.device import is_device
    from sastrugi.media.extents import total
    from sastrugi.specimen.digests import medium_digest
    from sastrugi.units import format_size, parse_size, plural

    if not out.name:
        raise DestinationError(f"'{out}' is a folder: name the new image with --out FILE")
    if is_device(out):
        _onto_device(source, out, write_device, as_json)
        return
    chosen = container or container_for(out)
    line = quoted(
        "sastrugi", "capture", source, "--out", out, "--container", chosen, "--part-size", part_size, "--go-on"
    )
    with medium_at(source) as opened, progress(line) as watched:
        size = opened.size
        part = parse_size(part_size) if chosen == "split" else 0
        done = run_capture(opened, out, chosen, watched, part, retries, go_on)
        with open_medium(out) as made:
            watched.start("digest", size)
            digest = medium_digest(made, watched.at)
    lost = list(done.unreadable)
    if as_json:
        show_json(
            {
                "image": str(out),
                "container": chosen,
                "size": size,
                "read": done.read,
                "digest": digest,
                "unreadable": [list(extent) for extent in lost],
            }
        )
    else:
        say(f"{format_size(size)} in {out} ({chosen}), {format_size(done.read)} read now; digest {digest}")
    if lost:
        where = plural(len(lost), "range")
        say(f"{total(lost):,} bytes could not be read, in {where}: zeros in the image, listed beside it")
        raise typer.Exit(3)


def _onto_device(source: Path, device: Path, confirmed: bool, as_json: bool) -> None:
    from sastrugi.errors import DestinationError
    from sastrugi.media.device import write_device
    from sastrugi.specimen.digests import medium_digest
    from sastrugi.units import format_size

    if not confirmed:
        raise DestinationError(f"{device}: is a device: --write-device writes over all that is on it")
    with medium_at(source) as opened, progress() as watched:
        write_device(opened, device, watched)
        watched.start("digest", opened.size)
        digest = medium_digest(opened, watched.at)
    if as_json:
        show_json({"device": str(device), "size": opened.size, "digest": digest})
    else:
        say(f"{format_size(opened.size)} written to {device} and read back; digest {digest}")
