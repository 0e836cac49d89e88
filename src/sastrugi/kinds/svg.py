"""SVG drawings. Source: W3C SVG 1.1."""

from __future__ import annotations

from sastrugi.kinds._markup import measure_markup
from sastrugi.kinds.base import Kind, Measure, Proof, Signature, Source
from sastrugi.kinds.xml import check
from sastrugi.scenario.dice import Dice


def measure(source: Source, deep: bool = False) -> Measure | None:
    found = measure_markup(source)
    return found if found is not None and found.kind == "svg" else None


def make(dice: Dice, size: int) -> bytes:
    """A map of stakes and drift lines."""
    from html import escape

    parts = [
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 1000 750"><title>{escape(dice.caption())}</title>\n'
    ]
    have = len(parts[0].encode())
    while have < size - 7:
        x, y = dice.number(0, 1000), dice.number(0, 750)
        curve = " ".join(f"{x + 20 * n},{y + dice.number(-15, 15)}" for n in range(6))
        colour = dice.pick(("#0072B2", "#56B4E9", "#999999"))
        parts.append(f'<polyline points="{curve}" fill="none" stroke="{colour}"/><circle cx="{x}" cy="{y}" r="3"/>\n')
        have += len(parts[-1])
    return ("".join(parts) + "</svg>\n").encode()


KIND = Kind(
    "svg", "SVG drawing", "picture", ("svg",), "image/svg+xml", "text up to </svg>", Proof.STRUCTURE, measure,
    (Signature(b"<svg"),), make=make, check=check,
)  # fmt: skip
