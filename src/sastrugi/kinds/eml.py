"""Mail messages. Source: RFC 5322."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from sastrugi.kinds.base import Holds, Kind, Proof
from sastrugi.scenario.dice import Dice

if TYPE_CHECKING:
    from email.message import EmailMessage


def message(dice: Dice, size: int) -> EmailMessage:
    """A message with a text, and something attached if there is room."""
    from email.message import EmailMessage

    mail = EmailMessage()
    mail["From"], mail["To"] = f"{dice.person()} <camp@firnline.example>", f"{dice.person()} <base@firnline.example>"
    mail["Subject"] = dice.caption()
    mail["Date"] = dice.moment().strftime("%a, %d %b %Y %H:%M:%S +0000")
    mail["Message-ID"] = f"<{dice.number(10**8, 10**9)}@firnline.example>"
    mail.set_content(dice.log_text(min(max(size - 600, 60), 4000)))
    if size > 8000:
        mail.add_attachment(
            dice.noise((size - 6000) * 3 // 4), "application", "octet-stream", filename=f"{dice.word()}.raw"
        )
        mail.set_boundary(f"=={dice.number(10**15, 10**16)}==")
    return mail


def make(dice: Dice, size: int) -> bytes:
    return message(dice, size).as_bytes()


def check(path: Path) -> None:
    import email
    import email.policy

    mail = email.message_from_bytes(path.read_bytes(), policy=email.policy.default)
    if not mail.keys():
        raise ValueError("it has no header lines")
    for part in mail.walk():
        if part.defects:
            raise ValueError(str(part.defects[0]))
        part.get_payload(decode=True)


KIND = Kind(
    "eml",
    "mail message",
    "document",
    ("eml",),
    "message/rfc822",
    "as txt (a guess)",
    Proof.GUESS,
    refines="txt",
    holds=Holds.ALL,
    make=make,
    check=check,
)
