"""`sastrugi recipe list`, `show` and `check`: the recipes that ship, and a check of yours."""

from __future__ import annotations

import sys
from typing import Annotated

import typer

from sastrugi.cli.console import JsonOption, quoted, say, show, show_json

_HELP = "The recipes that ship, and a check of yours."
_LIST_HELP = """List the recipes that ship with Sastrugi, each in a line.

\b
Example: sastrugi recipe list"""
_SHOW_HELP = """Print a recipe with its comments, to read or to start your own from.

\b
Example: sastrugi recipe show formatted-refilled > mine.toml"""
_CHECK_HELP = """Check a recipe of yours: every word of it, and whether partitions and formats fit. Nothing is written.

\b
Example: sastrugi recipe check mine.toml"""

RecipeArgument = Annotated[
    str, typer.Argument(help="A recipe file (TOML), or the name of a shipped recipe.", metavar="RECIPE")
]


def register(app: typer.Typer) -> None:
    family = typer.Typer(help=_HELP, no_args_is_help=True, rich_markup_mode=None)
    family.command("list", help=_LIST_HELP)(list_recipes)
    family.command("show", help=_SHOW_HELP)(show_recipe)
    family.command("check", help=_CHECK_HELP)(check_recipe)
    app.add_typer(family, name="recipe")


def list_recipes(as_json: JsonOption = False) -> None:
    from sastrugi.report.tables import recipe_json, recipes_table
    from sastrugi.specimen.recipe import load_recipe, shipped_recipes

    recipes = sorted((load_recipe(name) for name in shipped_recipes()), key=lambda recipe: recipe.seed)
    if as_json:
        show_json([recipe_json(recipe) for recipe in recipes])
        return
    show(recipes_table(recipes))
    say(f"build one with: {quoted('sastrugi', 'build', 'one-notebook')}")


def show_recipe(recipe: RecipeArgument, as_json: JsonOption = False) -> None:
    from sastrugi.specimen.recipe import load_recipe

    loaded = load_recipe(recipe)
    if as_json:
        show_json(loaded.model_dump(mode="json"))
    else:
        sys.stdout.write(loaded.text)


def check_recipe(recipe: RecipeArgument, as_json: JsonOption = False) -> None:
    from sastrugi.report.tables import recipe_json
    from sastrugi.specimen.build import check_layout
    from sastrugi.specimen.recipe import load_recipe
    from sastrugi.units import plural

    loaded = load_recipe(recipe)
    check_layout(loaded)
    if as_json:
        show_json(recipe_json(loaded))
    else:
        line = quoted("sastrugi", "build", recipe)
        say(f"{recipe}: sound, {plural(len(loaded.steps), 'step')}; build it with: {line}")
