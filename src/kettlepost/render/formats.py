"""The registry of output formats: for each kind of result, what writes it in which format.

A writer of text takes a screen and the result; every other takes the result and returns what
is to be written, whole or piece by piece. Each is imported only when it is asked for.
"""

from __future__ import annotations

import importlib
import sys
from enum import StrEnum

from kettlepost.core.errors import InputError
from kettlepost.core.quoting import Code


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


WRITERS: dict[str, dict[str, str]] = {
    "AddressMap": {"text": "address_map.show_addresses", "json": "json.addresses_json"},
    "AnswerLines": {"text": "lines.answers_text", "json": "lines.answers_json"},
    "Catalogue": {"text": "surveys.show_applications", "json": "json.catalogue_json"},
    "CatalogueEntry": {"text": "surveys.show_application", "json": "json.catalogue_entry_json"},
    "ChangeShown": {"text": "changes.show_change", "json": "json.change_json"},
    "Checked": {
        "text": "text.show_check", "json": "json.check_json", "sarif": "sarif.check_sarif",
        "junit": "junit.check_junit", "csv": "tables.check_csv", "markdown": "tables.check_markdown",
    },
    "ClearingShown": {"text": "clearing.show_clearing", "json": "clearing.clearing_json"},
    "ClearingToDo": {"text": "clearing.show_to_do", "json": "clearing.to_do_json"},
    "CopyShown": {"text": "database_script.show_copy", "json": "database_script.copy_json"},
    "DatabasesRead": {"text": "databases.show_read", "json": "databases.read_json"},
    "DiscardedShown": {"text": "clearing.show_discarded"},
    "FolderMap": {"text": "text.show_folders", "json": "json.folders_json"},
    "FolderView": {"text": "text.show_where", "json": "json.view_json"},
    "GrantedList": {
        "text": "weighing.show_granted", "json": "weighing.granted_json",
        "csv": "weighing.granted_csv", "markdown": "weighing.granted_markdown",
    },
    "ImportShown": {"text": "imports.show_import", "json": "imports.import_json"},
    "PasswordTitles": {
        "text": "passwords.show_titles", "json": "passwords.titles_json", "csv": "passwords.titles_csv",
        "markdown": "passwords.titles_markdown",
    },
    "PasswordsChecked": {"text": "passwords.show_checked", "json": "passwords.checked_json"},
    "PutBack": {"text": "clearing.show_put_back", "json": "clearing.put_back_json"},
    "Recognition": {"text": "surveys.show_trial", "json": "json.recognition_json"},
    "Register": {
        "text": "tables.show_register", "json": "json.register_json",
        "csv": "tables.register_csv", "markdown": "tables.register_markdown", "xlsx": "spreadsheet.register_xlsx",
    },
    "Rule": {"text": "text.show_rule", "json": "json.rule_json"},
    "RuleList": {"text": "text.show_rules", "json": "json.rules_json"},
    "SheetsShown": {
        "text": "sheet.show_sheets", "json": "sheet.sheets_json", "markdown": "sheet.sheets_markdown",
        "html": "sheet.sheets_html",
    },
    "ScriptsShown": {"text": "database_script.show_scripts", "json": "database_script.scripts_json"},
    "SetAsideList": {"text": "clearing.show_set_asides", "json": "clearing.set_asides_json"},
    "SurveyComparisonShown": {"text": "surveys.show_differences", "json": "json.survey_comparison_json"},
    "SurveyStored": {"text": "surveys.show_inventory", "json": "json.survey_stored_json"},
    "SurveyTaken": {"text": "surveys.show_taken", "json": "json.survey_json"},
    "SurveysTaken": {"json": "json.surveys_json"},
    "WeighingShown": {
        "text": "weighing.show_weighing", "json": "weighing.weighing_json",
        "csv": "weighing.weighing_csv", "markdown": "weighing.weighing_markdown",
    },
    "WorkShown": {
        "text": "work.show_work", "json": "work.work_json", "csv": "work.work_csv",
        "markdown": "work.work_markdown", "ics": "work.work_ics",
    },
    "WhereView": {"text": "text.show_where", "json": "json.view_json"},
}  # fmt: skip
"""By the type of the result and the name of the format: the module of this package and the function in it."""


_LANGUAGES = frozenset(("csv", "markdown", "html"))
"""The formats whose texts are made by `core.quoting`; the others by packages for them."""


def formats_of(*results: str) -> list[str]:
    """The formats in which all of these results can be written, in the order of `Format`."""
    return [form.value for form in Format if all(form.value in WRITERS[result] for result in results)]


def write(result: object, form: str) -> None:
    """Write a result to standard output."""
    module, _, function = WRITERS[type(result).__name__][form].partition(".")
    writer = getattr(importlib.import_module(f"kettlepost.render.{module}"), function)
    if form == Format.text:
        from kettlepost.render.screen import Screen

        writer(Screen(), result)
        return
    written = writer(result)
    if form in _LANGUAGES and not isinstance(written, Code):
        raise TypeError(f"{function} gives {form} that was not quoted for it")
    if isinstance(written, bytes):
        if sys.stdout.isatty():
            raise InputError(f"{form} is no text for a terminal: send it into a file, such as > sites.{form}")
        sys.stdout.flush()
        sys.stdout.buffer.write(written)
        return
    sys.stdout.writelines((written,) if isinstance(written, str) else written)
