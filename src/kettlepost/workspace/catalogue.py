"""The data that comes with the program: known applications, and placeholder pages."""

from __future__ import annotations

from functools import cache
from importlib.resources import files

import msgspec
import rtoml

from kettlepost.core.plan import Application, Plan, PlanFile, read_catalogue
from kettlepost.core.survey import PlaceholderFile, PlaceholderFinder, Recognisable


@cache
def applications() -> dict[str, Application]:
    """The built-in catalogue of applications, by id; not to be changed."""
    folder = files("kettlepost").joinpath("catalogue/applications")
    names = sorted(entry.name for entry in folder.iterdir() if entry.name.endswith(".toml") and entry.name[0] != "_")
    known = read_catalogue((name, folder.joinpath(name).read_text("utf-8")) for name in names)
    return {one: msgspec.structs.replace(entry, proved=entry.proved or "") for one, entry in known.items()}


@cache
def placeholder_finder() -> PlaceholderFinder:
    """What knows placeholder pages: one for all surveys of a command, as what it is made of takes long to prepare."""
    text = files("kettlepost").joinpath("catalogue/placeholders.toml").read_text("utf-8")
    return PlaceholderFinder(msgspec.convert(rtoml.loads(text), PlaceholderFile))


def catalogue_alone() -> Plan:
    """A plan with nothing but the catalogue."""
    return Plan(PlanFile(), [], applications())


def recognised(plan: Plan) -> Recognisable:
    """What a survey of an account of `plan` recognises."""
    return Recognisable(plan.applications, placeholder_finder(), plan.settings.index_files)
