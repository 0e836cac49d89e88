"""Kinds of files: one module each, holding one `KIND` that declares what it accepts and registers itself.

`base` says what a kind offers, `registry` finds them, modules beginning with an underscore hold structures that
several kinds share. Adding a kind is adding a module.
"""

from sastrugi.kinds.base import Kind, Measure, Proof, Signature, Source
from sastrugi.kinds.registry import all_kinds, kind_for_name, kind_named, recognise

__all__ = ["Kind", "Measure", "Proof", "Signature", "Source", "all_kinds", "kind_for_name", "kind_named", "recognise"]
