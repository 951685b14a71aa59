"""The programs that replace addresses in tables, and merge tables, for PHP as hosts have it."""

from __future__ import annotations

from importlib.resources import files

import msgspec

from kettlepost.core.quoting.php import program
from kettlepost.render.json import document
from kettlepost.render.results import MergeShown, ReplacementShown
from kettlepost.render.screen import Screen


def show_merge(screen: Screen, shown: MergeShown) -> None:
    """The program that compares tables and merges them, told whose."""
    source = files("kettlepost.programs").joinpath("merge_tables.php").read_text("utf-8")
    told = shown.merge
    plan = {
        "keeps": told.keeps,
        "kinds": [{"name": name, "tables": tables} for name, tables in told.kinds],
        "live": {"prefix": told.live.prefix, "stays": told.live.stays},
        "prefixed": told.prefixed,
        "rehearsal": {"prefix": told.rehearsal.prefix, "stays": told.rehearsal.stays},
    }
    screen.raw(program(source, plan))


def merge_json(shown: MergeShown) -> str:
    """What is compared and merged, as JSON."""
    return document(msgspec.to_builtins(shown.merge))


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
