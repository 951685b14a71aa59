"""Kettlepost: which address reaches which folder, and what gets in the way.

To a program it offers what the commands do: open a plan folder, then ask or change it.

    plan = kettlepost.open_plan("fernhollow")
    kettlepost.where(plan, "lanternchoir.example").words
    kettlepost.add_domain(plan, "choir.example", account="millbrook").commit()

A plan folder that was opened is one snapshot: what was read of it stays as it was, so open it
again once something has changed. Results are records; errors are KettlepostError or below.
Everything is imported when it is first used.
"""

from __future__ import annotations

import importlib
from typing import TYPE_CHECKING, Any

__version__ = "0.1.0"

if TYPE_CHECKING:
    from kettlepost.core.answering import AccountRow as AccountRow
    from kettlepost.core.answering import AddressRow as AddressRow
    from kettlepost.core.answering import DomainRow as DomainRow
    from kettlepost.core.answering import FolderRow as FolderRow
    from kettlepost.core.answering import FolderView as FolderView
    from kettlepost.core.answering import InstallRow as InstallRow
    from kettlepost.core.answering import WhereView as WhereView
    from kettlepost.core.budget import Limits as Limits
    from kettlepost.core.checking import Checked as Checked
    from kettlepost.core.errors import InputError as InputError
    from kettlepost.core.errors import KettlepostError as KettlepostError
    from kettlepost.core.errors import OutsideError as OutsideError
    from kettlepost.core.errors import PlanError as PlanError
    from kettlepost.core.layout import DatabaseRow as DatabaseRow
    from kettlepost.core.messages import Message as Message
    from kettlepost.core.placing import Granted as Granted
    from kettlepost.core.placing import Weighing as Weighing
    from kettlepost.core.placing import Wish as Wish
    from kettlepost.core.remedies import Remedy as Remedy
    from kettlepost.core.rules import Finding as Finding
    from kettlepost.core.rules import find_rule as find_rule
    from kettlepost.core.rules import rules as rules
    from kettlepost.core.steps import Step as Step
    from kettlepost.core.survey import SET_ASIDE as SET_ASIDE
    from kettlepost.core.survey import Survey as Survey
    from kettlepost.core.trying import FindingDifference as FindingDifference
    from kettlepost.render.registers import REGISTERS as REGISTERS
    from kettlepost.render.registers import chosen as chosen
    from kettlepost.render.registers import chosen_columns as chosen_columns
    from kettlepost.render.sentences import text as text
    from kettlepost.sources import Secrets as Secrets
    from kettlepost.workspace.accounts import accounts as accounts
    from kettlepost.workspace.accounts import add_account as add_account
    from kettlepost.workspace.accounts import drop_account as drop_account
    from kettlepost.workspace.accounts import remember_source as remember_source
    from kettlepost.workspace.accounts import rename_account as rename_account
    from kettlepost.workspace.accounts import start_with_account as start_with_account
    from kettlepost.workspace.bringing import account_move as account_move
    from kettlepost.workspace.bringing import move_to_account as move_to_account
    from kettlepost.workspace.carrying.prepare import PreparedStep as PreparedStep
    from kettlepost.workspace.carrying.prepare import prepare_step as prepare_step
    from kettlepost.workspace.carrying.prepare import take_back as take_back
    from kettlepost.workspace.catalogue import applications as applications
    from kettlepost.workspace.catalogue import catalogue_alone as catalogue_alone
    from kettlepost.workspace.changes import PreparedChange as PreparedChange
    from kettlepost.workspace.changes import changing as changing
    from kettlepost.workspace.changes import open_plan as open_plan
    from kettlepost.workspace.changes import undo as undo
    from kettlepost.workspace.comparing import compare as compare
    from kettlepost.workspace.database_scripts import addresses_in_tables as addresses_in_tables
    from kettlepost.workspace.database_scripts import copy_of_tables as copy_of_tables
    from kettlepost.workspace.database_scripts import database_scripts as database_scripts
    from kettlepost.workspace.database_scripts import merge_of_tables as merge_of_tables
    from kettlepost.workspace.database_scripts import password_statements as password_statements
    from kettlepost.workspace.database_scripts import tables_to_bring as tables_to_bring
    from kettlepost.workspace.databases import databases as databases
    from kettlepost.workspace.databases import read_databases as read_databases
    from kettlepost.workspace.exports import export as export
    from kettlepost.workspace.exports import runs_php as runs_php
    from kettlepost.workspace.exports import write_parts as write_parts
    from kettlepost.workspace.files import read_table as read_table
    from kettlepost.workspace.imports import Import as Import
    from kettlepost.workspace.imports import import_sources as import_sources
    from kettlepost.workspace.mentions import mentions as mentions
    from kettlepost.workspace.passwords import check_passwords as check_passwords
    from kettlepost.workspace.passwords import kept_password as kept_password
    from kettlepost.workspace.passwords import make_password as make_password
    from kettlepost.workspace.passwords import password_titles as password_titles
    from kettlepost.workspace.plan_edits import accept as accept
    from kettlepost.workspace.plan_edits import add_domain as add_domain
    from kettlepost.workspace.plan_edits import adopt as adopt
    from kettlepost.workspace.plan_edits import confirm as confirm
    from kettlepost.workspace.plan_edits import drop_domain as drop_domain
    from kettlepost.workspace.plan_edits import forget as forget
    from kettlepost.workspace.plan_edits import move_root as move_root
    from kettlepost.workspace.plan_edits import place as place
    from kettlepost.workspace.plan_edits import place_wishes as place_wishes
    from kettlepost.workspace.plan_edits import retire as retire
    from kettlepost.workspace.plan_edits import set_www as set_www
    from kettlepost.workspace.plan_folder import PlanFolder as PlanFolder
    from kettlepost.workspace.probing import Probed as Probed
    from kettlepost.workspace.probing import ProbeOptions as ProbeOptions
    from kettlepost.workspace.probing import host_logins as host_logins
    from kettlepost.workspace.probing import probe as probe
    from kettlepost.workspace.queries import RequestOptions as RequestOptions
    from kettlepost.workspace.queries import check as check
    from kettlepost.workspace.queries import domains as domains
    from kettlepost.workspace.queries import grant as grant
    from kettlepost.workspace.queries import installations as installations
    from kettlepost.workspace.queries import map_addresses as map_addresses
    from kettlepost.workspace.queries import map_folders as map_folders
    from kettlepost.workspace.queries import weigh as weigh
    from kettlepost.workspace.queries import where as where
    from kettlepost.workspace.queries import where_each as where_each
    from kettlepost.workspace.queries import where_each_folder as where_each_folder
    from kettlepost.workspace.queries import where_folder as where_folder
    from kettlepost.workspace.relocating import move as move
    from kettlepost.workspace.relocating import move_ways as move_ways
    from kettlepost.workspace.relocating import rehearse as rehearse
    from kettlepost.workspace.scaffold import start_plan as start_plan
    from kettlepost.workspace.set_aside.listing import Allow as Allow
    from kettlepost.workspace.set_aside.listing import SetAside as SetAside
    from kettlepost.workspace.set_aside.listing import UnverifiedRecord as UnverifiedRecord
    from kettlepost.workspace.set_aside.listing import discard as discard
    from kettlepost.workspace.set_aside.listing import discardable as discardable
    from kettlepost.workspace.set_aside.listing import finish as finish
    from kettlepost.workspace.set_aside.listing import put_back as put_back
    from kettlepost.workspace.set_aside.listing import set_asides as set_asides
    from kettlepost.workspace.set_aside.prepare import PreparedClearing as PreparedClearing
    from kettlepost.workspace.set_aside.prepare import clearing as clearing
    from kettlepost.workspace.sheets import copy_sheets as copy_sheets
    from kettlepost.workspace.sheets import second_place as second_place
    from kettlepost.workspace.sheets import sheet_file as sheet_file
    from kettlepost.workspace.sheets import sheets as sheets
    from kettlepost.workspace.sheets import write_sheets as write_sheets
    from kettlepost.workspace.surveys import stored_survey as stored_survey
    from kettlepost.workspace.surveys import survey as survey
    from kettlepost.workspace.surveys import survey_all as survey_all
    from kettlepost.workspace.surveys import survey_difference as survey_difference
    from kettlepost.workspace.surveys import try_folder as try_folder
    from kettlepost.workspace.work import say_done as say_done
    from kettlepost.workspace.work import who_can as who_can
    from kettlepost.workspace.work import work as work

_OFFERED = {
    "core.budget": "Limits",
    "core.errors": "InputError KettlepostError OutsideError PlanError",
    "core.answering": "AccountRow AddressRow DomainRow FolderRow FolderView InstallRow WhereView",
    "core.layout": "DatabaseRow",
    "core.messages": "Message",
    "core.checking": "Checked",
    "core.placing": "Granted Weighing Wish",
    "core.trying": "FindingDifference",
    "core.rules": "Finding find_rule rules",
    "core.steps": "Step",
    "core.remedies": "Remedy",
    "core.survey": "SET_ASIDE Survey",
    "render.sentences": "text",
    "sources": "Secrets",
    "workspace.queries": "RequestOptions check domains grant installations map_addresses map_folders weigh where "
    "where_each where_each_folder where_folder",
    "workspace.accounts": "accounts add_account drop_account remember_source rename_account start_with_account",
    "workspace.bringing": "account_move move_to_account",
    "workspace.carrying.prepare": "PreparedStep prepare_step take_back",
    "workspace.catalogue": "applications catalogue_alone",
    "workspace.changes": "PreparedChange changing open_plan undo",
    "workspace.set_aside.prepare": "PreparedClearing clearing",
    "workspace.database_scripts": "addresses_in_tables copy_of_tables database_scripts merge_of_tables "
    "password_statements tables_to_bring",
    "workspace.databases": "databases read_databases",
    "workspace.exports": "export runs_php write_parts",
    "workspace.files": "read_table",
    "workspace.imports": "Import import_sources",
    "workspace.mentions": "mentions",
    "workspace.passwords": "check_passwords kept_password make_password password_titles",
    "workspace.plan_edits": "accept add_domain adopt confirm drop_domain forget move_root place place_wishes retire "
    "set_www",
    "workspace.plan_folder": "PlanFolder",
    "render.registers": "REGISTERS chosen chosen_columns",
    "workspace.comparing": "compare",
    "workspace.probing": "ProbeOptions Probed host_logins probe",
    "workspace.relocating": "move move_ways rehearse",
    "workspace.scaffold": "start_plan",
    "workspace.set_aside.listing": "Allow UnverifiedRecord SetAside discard discardable finish put_back set_asides",
    "workspace.sheets": "copy_sheets second_place sheet_file sheets write_sheets",
    "workspace.work": "say_done who_can work",
    "workspace.surveys": "stored_survey survey survey_all survey_difference try_folder",
}
_HOMES = {name: home for home, names in _OFFERED.items() for name in names.split()}

__all__ = ["__version__", *sorted(_HOMES)]


def __getattr__(name: str) -> Any:
    if name not in _HOMES:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    value = getattr(importlib.import_module(f"{__name__}.{_HOMES[name]}"), name)
    globals()[name] = value
    return value


def __dir__() -> list[str]:
    return sorted({*globals(), *_HOMES})
