"""The program that replaces addresses in tables, for PHP as hosts have it."""

from __future__ import annotations

from importlib.resources import files

import msgspec

from kettlepost.core.quoting.php import program
from kettlepost.render.json import document
from kettlepost.render.results import ReplacementShown
from kettlepost.render.screen import Screen


def show_program(screen: Screen, shown: ReplacementShown) -> None:
    """The program, told what to replace."""
    source = files("kettlepost.programs").joinpath("replace_addresses.php").read_text("utf-8")
    told = shown.replacement
    plan = {
        "addresses": told.addresses,
        "keeps": told.keeps,
        "prefix": told.prefix,
        "stays": told.stays,
    }
    screen.raw(program(source, plan))


def replacement_json(shown: ReplacementShown) -> str:
    """What is replaced, as JSON."""
    return document(msgspec.to_builtins(shown.replacement))
