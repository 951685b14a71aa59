"""The registry of output formats: for each kind of result, what writes it in which format.

A writer of text takes a screen and the result; every other takes the result and returns what
is to be written, whole or piece by piece. Each is imported only when it is asked for.
"""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterable
from enum import StrEnum
from typing import TYPE_CHECKING, Any, Generic, Literal, TypeVar

from kettlepost import render
from kettlepost.core.errors import InputError
from kettlepost.core.quoting import Code

if TYPE_CHECKING:
    from kettlepost.core.answering import FolderView, WhereView  # noqa: F401 (in text below)
    from kettlepost.core.checking import Checked  # noqa: F401
    from kettlepost.core.quoting.csv import Csv
    from kettlepost.core.quoting.html import Html
    from kettlepost.core.quoting.markdown import Markdown
    from kettlepost.core.rules import Rule  # noqa: F401
    from kettlepost.render.results import (  # noqa: F401
        AccountMoveShown,
        AddressMap,
        AnswerLines,
        Catalogue,
        CatalogueEntry,
        ChangeShown,
        ClearingShown,
        ClearingToDo,
        ComparisonShown,
        CopyShown,
        DatabasesRead,
        DiscardedShown,
        FolderMap,
        GrantedList,
        ImportShown,
        MentionsShown,
        MergeShown,
        MoveWaysShown,
        PasswordsChecked,
        PasswordTitles,
        ProbeShown,
        PutBack,
        Recognition,
        Register,
        ReplacementShown,
        RuleList,
        ScriptsShown,
        SetAsideList,
        SheetsShown,
        StepShown,
        SurveyComparisonShown,
        SurveysTaken,
        SurveyStored,
        SurveyTaken,
        TakenBackShown,
        WeighingShown,
        WorkShown,
    )  # fmt: skip
    from kettlepost.render.screen import Screen

R = TypeVar("R")


class Format(StrEnum):
    """How a result is written."""

    text = "text"
    json = "json"
    sarif = "sarif"
    junit = "junit"
    csv = "csv"
    markdown = "markdown"
    ics = "ics"
    html = "html"
    xlsx = "xlsx"


Result = Literal[
    "AccountMoveShown",
    "AddressMap", "AnswerLines", "Catalogue", "CatalogueEntry", "ChangeShown", "Checked", "ClearingShown",
    "ClearingToDo", "ComparisonShown", "CopyShown", "DatabasesRead", "DiscardedShown", "FolderMap", "FolderView",
    "GrantedList", "ImportShown", "MentionsShown", "MergeShown", "MoveWaysShown", "PasswordTitles",
    "PasswordsChecked", "ProbeShown", "PutBack", "Recognition",
    "Register", "ReplacementShown", "Rule", "RuleList", "ScriptsShown", "SetAsideList",
    "SheetsShown", "StepShown", "SurveyComparisonShown", "SurveyStored", "SurveyTaken", "SurveysTaken",
    "TakenBackShown", "WeighingShown", "WhereView", "WorkShown",
]  # fmt: skip
"""The results that can be written: the names of their types."""


class Writers(Generic[R]):
    """What writes a result in each format, imported only when it is asked for."""

    def __init__(
        self,
        *,
        text: Callable[[], Callable[[Screen, R], None]] | None = None,
        json: Callable[[], Callable[[R], str | Iterable[str]]] | None = None,
        sarif: Callable[[], Callable[[R], str]] | None = None,
        junit: Callable[[], Callable[[R], str]] | None = None,
        csv: Callable[[], Callable[[R], Csv]] | None = None,
        markdown: Callable[[], Callable[[R], Markdown]] | None = None,
        ics: Callable[[], Callable[[R], str]] | None = None,
        html: Callable[[], Callable[[R], Html]] | None = None,
        xlsx: Callable[[], Callable[[R], bytes]] | None = None,
    ):
        self.text = text
        written = (json, sarif, junit, csv, markdown, ics, html, xlsx)
        self.written: dict[Format, Callable[[], Callable[[R], Any]]] = {
            form: writer for form, writer in zip(list(Format)[1:], written, strict=True) if writer is not None
        }

    @property
    def formats(self) -> list[Format]:
        """The formats in which it can be written."""
        return [form for form in Format if form in self.written or (form is Format.text and self.text is not None)]


WRITERS: dict[Result, Writers[Any]] = {
    "AccountMoveShown": Writers["AccountMoveShown"](
        text=lambda: render.moving.show_account_move, json=lambda: render.moving.account_move_json,
    ),
    "AddressMap": Writers["AddressMap"](
        text=lambda: render.address_map.show_addresses, json=lambda: render.json.addresses_json,
    ),
    "AnswerLines": Writers["AnswerLines"](
        text=lambda: render.lines.answers_text, json=lambda: render.lines.answers_json,
    ),
    "Catalogue": Writers["Catalogue"](
        text=lambda: render.surveys.show_applications, json=lambda: render.json.catalogue_json,
    ),
    "CatalogueEntry": Writers["CatalogueEntry"](
        text=lambda: render.surveys.show_application, json=lambda: render.json.catalogue_entry_json,
    ),
    "ChangeShown": Writers["ChangeShown"](
        text=lambda: render.changes.show_change, json=lambda: render.json.change_json,
    ),
    "Checked": Writers["Checked"](
        text=lambda: render.text.show_check, json=lambda: render.json.check_json,
        sarif=lambda: render.sarif.check_sarif, junit=lambda: render.junit.check_junit,
        csv=lambda: render.tables.check_csv, markdown=lambda: render.tables.check_markdown,
    ),
    "ClearingShown": Writers["ClearingShown"](
        text=lambda: render.clearing.show_clearing, json=lambda: render.clearing.clearing_json,
    ),
    "ClearingToDo": Writers["ClearingToDo"](
        text=lambda: render.clearing.show_to_do, json=lambda: render.clearing.to_do_json,
    ),
    "CopyShown": Writers["CopyShown"](
        text=lambda: render.database_script.show_copy, json=lambda: render.database_script.copy_json,
    ),
    "MergeShown": Writers["MergeShown"](
        text=lambda: render.replacing.show_merge, json=lambda: render.replacing.merge_json,
    ),
    "ReplacementShown": Writers["ReplacementShown"](
        text=lambda: render.replacing.show_program, json=lambda: render.replacing.replacement_json,
    ),
    "DatabasesRead": Writers["DatabasesRead"](
        text=lambda: render.databases.show_read, json=lambda: render.databases.read_json,
    ),
    "DiscardedShown": Writers["DiscardedShown"](text=lambda: render.clearing.show_discarded),
    "FolderMap": Writers["FolderMap"](text=lambda: render.text.show_folders, json=lambda: render.json.folders_json),
    "FolderView": Writers["FolderView"](text=lambda: render.text.show_where, json=lambda: render.json.view_json),
    "GrantedList": Writers["GrantedList"](
        text=lambda: render.weighing.show_granted, json=lambda: render.weighing.granted_json,
        csv=lambda: render.weighing.granted_csv, markdown=lambda: render.weighing.granted_markdown,
    ),
    "ImportShown": Writers["ImportShown"](
        text=lambda: render.imports.show_import, json=lambda: render.imports.import_json,
    ),
    "MentionsShown": Writers["MentionsShown"](
        text=lambda: render.mentions.show_mentions, json=lambda: render.mentions.mentions_json,
    ),
    "MoveWaysShown": Writers["MoveWaysShown"](
        text=lambda: render.moving.show_ways, json=lambda: render.moving.ways_json,
    ),
    "PasswordTitles": Writers["PasswordTitles"](
        text=lambda: render.passwords.show_titles, json=lambda: render.passwords.titles_json,
        csv=lambda: render.passwords.titles_csv, markdown=lambda: render.passwords.titles_markdown,
    ),
    "PasswordsChecked": Writers["PasswordsChecked"](
        text=lambda: render.passwords.show_checked, json=lambda: render.passwords.checked_json,
    ),
    "ComparisonShown": Writers["ComparisonShown"](
        text=lambda: render.comparing.show_comparison, json=lambda: render.comparing.comparison_json,
        csv=lambda: render.comparing.comparison_csv, junit=lambda: render.comparing.comparison_junit,
    ),
    "ProbeShown": Writers["ProbeShown"](
        text=lambda: render.probing.show_probe, json=lambda: render.probing.probe_json,
        junit=lambda: render.probing.probe_junit, csv=lambda: render.probing.probe_csv,
        markdown=lambda: render.probing.probe_markdown,
    ),
    "PutBack": Writers["PutBack"](
        text=lambda: render.clearing.show_put_back, json=lambda: render.clearing.put_back_json,
    ),
    "Recognition": Writers["Recognition"](
        text=lambda: render.surveys.show_trial, json=lambda: render.json.recognition_json,
    ),
    "Register": Writers["Register"](
        text=lambda: render.tables.show_register, json=lambda: render.json.register_json,
        csv=lambda: render.tables.register_csv, markdown=lambda: render.tables.register_markdown,
        xlsx=lambda: render.spreadsheet.register_xlsx,
    ),
    "Rule": Writers["Rule"](text=lambda: render.text.show_rule, json=lambda: render.json.rule_json),
    "RuleList": Writers["RuleList"](text=lambda: render.text.show_rules, json=lambda: render.json.rules_json),
    "ScriptsShown": Writers["ScriptsShown"](
        text=lambda: render.database_script.show_scripts, json=lambda: render.database_script.scripts_json,
    ),
    "SetAsideList": Writers["SetAsideList"](
        text=lambda: render.clearing.show_set_asides, json=lambda: render.clearing.set_asides_json,
    ),
    "SheetsShown": Writers["SheetsShown"](
        text=lambda: render.sheet.show_sheets, json=lambda: render.sheet.sheets_json,
        markdown=lambda: render.sheet.sheets_markdown, html=lambda: render.sheet.sheets_html,
    ),
    "SurveyComparisonShown": Writers["SurveyComparisonShown"](
        text=lambda: render.surveys.show_differences, json=lambda: render.json.survey_comparison_json,
    ),
    "SurveyStored": Writers["SurveyStored"](
        text=lambda: render.surveys.show_inventory, json=lambda: render.json.survey_stored_json,
    ),
    "SurveyTaken": Writers["SurveyTaken"](text=lambda: render.surveys.show_taken, json=lambda: render.json.survey_json),
    "SurveysTaken": Writers["SurveysTaken"](json=lambda: render.json.surveys_json),
    "StepShown": Writers["StepShown"](
        text=lambda: render.carrying.show_step, json=lambda: render.carrying.step_json,
    ),
    "TakenBackShown": Writers["TakenBackShown"](
        text=lambda: render.carrying.show_taken_back, json=lambda: render.carrying.taken_back_json,
    ),
    "WeighingShown": Writers["WeighingShown"](
        text=lambda: render.weighing.show_weighing, json=lambda: render.weighing.weighing_json,
        csv=lambda: render.weighing.weighing_csv, markdown=lambda: render.weighing.weighing_markdown,
    ),
    "WhereView": Writers["WhereView"](text=lambda: render.text.show_where, json=lambda: render.json.view_json),
    "WorkShown": Writers["WorkShown"](
        text=lambda: render.work.show_work, json=lambda: render.work.work_json, csv=lambda: render.work.work_csv,
        markdown=lambda: render.work.work_markdown, ics=lambda: render.work.work_ics,
    ),
}  # fmt: skip
"""What writes each result."""

_LANGUAGES = frozenset(("csv", "markdown", "html"))
"""The formats whose texts are made by `core.quoting`; the others by packages for them."""


def formats_of(*results: Result) -> list[str]:
    """The formats in which all of these results can be written, in the order of `Format`."""
    return [form.value for form in Format if all(form in WRITERS[result].formats for result in results)]


def write(result: object, form: str) -> None:
    """Write a result to standard output."""
    name: Any = type(result).__name__
    writers: Writers[Any] = WRITERS[name]
    if form == Format.text and writers.text is not None:
        from kettlepost.render.screen import Screen

        writers.text()(Screen(), result)
        return
    writer = writers.written[Format(form)]()
    written = writer(result)
    if form in _LANGUAGES and not isinstance(written, Code):
        raise TypeError(f"{writer.__name__} gives {form} that was not quoted for it")
    if isinstance(written, bytes):
        if sys.stdout.isatty():
            raise InputError(f"{form} is no text for a terminal: send it into a file, such as > sites.{form}")
        sys.stdout.flush()
        sys.stdout.buffer.write(written)
        return
    sys.stdout.writelines((written,) if isinstance(written, str) else written)
