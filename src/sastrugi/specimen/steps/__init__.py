"""The steps of a recipe: each a table that carries itself out. A new step is a class here, listed below."""

from __future__ import annotations

from sastrugi.specimen.recipe_types import StepTable
from sastrugi.specimen.steps.change import CopyStep, EditStep, GrowStep, LinkStep, RenameStep
from sastrugi.specimen.steps.churn import ChurnStep
from sastrugi.specimen.steps.damage import DamageStep, DiscardStep, FadeStep, OverlayStep, WipeStep
from sastrugi.specimen.steps.delete import BinStep, DeleteStep, EmptyBinStep
from sastrugi.specimen.steps.layout import DropPartitionStep, FormatStep, PartitionStep
from sastrugi.specimen.steps.store import StoreStep

STEPS: dict[str, type[StepTable]] = {
    "partition": PartitionStep,
    "format": FormatStep,
    "store": StoreStep,
    "grow": GrowStep,
    "edit": EditStep,
    "rename": RenameStep,
    "copy": CopyStep,
    "link": LinkStep,
    "delete": DeleteStep,
    "bin": BinStep,
    "empty-bin": EmptyBinStep,
    "churn": ChurnStep,
    "drop-partition": DropPartitionStep,
    "overlay": OverlayStep,
    "wipe": WipeStep,
    "discard": DiscardStep,
    "damage": DamageStep,
    "fade": FadeStep,
}
