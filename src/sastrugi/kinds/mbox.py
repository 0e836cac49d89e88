"""Mail boxes: messages one after the other. Source: RFC 4155."""

from __future__ import annotations

from pathlib import Path

from sastrugi.kinds.base import Holds, Kind, Proof
from sastrugi.kinds.eml import message
from sastrugi.scenario.dice import Dice


def make(dice: Dice, size: int) -> bytes:
    count = 1 + min(size // 6000, 40)
    out = b""
    for n in range(count):
        one = dice.fork(f"message {n}")
        body = message(one, size // count).as_bytes().replace(b"\nFrom ", b"\n>From ")
        out += (
            b"From camp@firnline.example "
            + one.moment().strftime("%a %b %d %H:%M:%S %Y").encode()
            + b"\n"
            + body
            + b"\n"
        )
    return out


def check(path: Path) -> None:
    import mailbox

    box = mailbox.mbox(path, create=False)
    try:
        if not len(box) or not all(mail.keys() for mail in box):
            raise ValueError("a message has no header lines")
    finally:
        box.close()


KIND = Kind(
    "mbox", "mail box", "document", ("mbox",), "application/mbox", "as txt (a guess)", Proof.GUESS, refines="txt",
    holds=Holds.ALL, make=make, check=check,
)  # fmt: skip
