"""Results for programs: JSON with the schema's version, sorted keys and safe names."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import msgspec

from kettlepost.core.answering import FolderView, WhereView
from kettlepost.core.checking import Checked
from kettlepost.core.errors import InputError
from kettlepost.core.messages import Message, Words
from kettlepost.core.names import printable
from kettlepost.core.rules import Finding, Rule
from kettlepost.core.secrets import masked
from kettlepost.core.survey import encode_survey
from kettlepost.render import gate
from kettlepost.render.remedies import command, told
from kettlepost.render.results import (
    AddressMap,
    Catalogue,
    CatalogueEntry,
    ChangeShown,
    FolderMap,
    Recognition,
    Register,
    RuleList,
    SurveyComparisonShown,
    SurveysTaken,
    SurveyStored,
    SurveyTaken,
)
from kettlepost.render.sentences import text
from kettlepost.render.steps import step_records, step_words
from kettlepost.render.text import way_words

SCHEMA = 1
WITH_STEPS = 2
"""The version of documents that hold steps: each says by slugs what is done, by whom, and how that is seen."""


def check_json(checked: Checked) -> str:
    return document(
        {
            "findings": [finding_record(found) for found in checked.findings],
            "counts": checked.counts,
            "accepted": checked.accepted,
            "accounts": checked.accounts,
            "unsurveyed": checked.unsurveyed,
            "outdated": checked.outdated,
            "unsaid_www": checked.unsaid_www,
            "troubles": checked.troubles,
        },
        WITH_STEPS,
    )


def addresses_json(shown: AddressMap) -> str:
    return _map_json("address", shown.accounts)


def folders_json(shown: FolderMap) -> str:
    return _map_json("folder", shown.accounts)


def _map_json(by: str, accounts: Mapping[str, Sequence[msgspec.Struct]]) -> str:
    return document({"by": by, "accounts": {name: list(map(_plain, rows)) for name, rows in accounts.items()}})


def survey_json(taken: SurveyTaken) -> str:
    return encode_survey(taken.survey).decode()


def surveys_json(taken: SurveysTaken) -> str:
    """Several surveys in one document, by account."""
    ordered = sorted(taken.surveys, key=lambda survey: survey.account)
    inner = ",\n".join(encode_survey(survey).decode().rstrip("\n") for survey in ordered)
    return f'{{"kettlepost":{SCHEMA},\n"surveys":[\n{inner}\n]}}\n'


def survey_stored_json(stored: SurveyStored) -> str:
    return document(_plain(stored.inventory))


def survey_comparison_json(compared: SurveyComparisonShown) -> str:
    head = {"account": compared.account, "from": compared.before, "to": compared.after}
    return records_json(head, "differences", compared.differences)


def catalogue_json(catalogue: Catalogue) -> str:
    return records_json({}, "applications", catalogue.applications)


def catalogue_entry_json(entry: CatalogueEntry) -> str:
    return document(_plain(entry.application))


def recognition_json(recognition: Recognition) -> str:
    return document(_plain(recognition.trial))


def register_json(register: Register) -> str:
    rows = [{column: worded(getattr(row, column)) for column in register.columns} for row in register.rows]
    return document({register.name: rows})


def rules_json(shown: RuleList) -> str:
    return document({"rules": list(map(_rule_record, shown.rules))})


def rule_json(rule: Rule) -> str:
    return document(_rule_record(rule))


def _rule_record(rule: Rule) -> dict[str, Any]:
    return {"rule": rule.slug, "severities": rule.severities, "summary": rule.summary, "text": rule.text}


def line_json(record: dict[str, Any]) -> str:
    """One record of many, on a line of its own."""
    plain = gate.data({"kettlepost": SCHEMA, **record})
    return msgspec.json.encode(plain, order="deterministic").decode() + "\n"


def records_json(head: dict[str, Any], name: str, records: Sequence[msgspec.Struct]) -> str:
    """A list of records under `name`, after what `head` says of them."""
    return document({**head, name: list(map(_plain, records))})


def change_json(shown: ChangeShown) -> str:
    """A change of the plan: its unified diff, what to do next, and the findings it brings and ends."""
    change = shown.change
    difference = change.difference
    added, ended = (difference.added, difference.gone) if difference is not None else ((), ())
    return document(
        {
            "file": change.files[0] if change.files else None,
            "files": change.files,
            "difference": masked(change.diff).split("\n")[:-1],
            "told": list(map(told, change.told)),
            "next": list(map(step_words, change.next)),
            "steps": step_records(change.next),
            "adds": [finding_record(found) for found in added],
            "ends": [finding_record(found) for found in ended],
            "addresses": {str(becomes): number for becomes, number in sorted(change.alters.items())},
            "written": shown.done,
        },
        WITH_STEPS,
    )


def finding_record(found: Finding) -> dict[str, Any]:
    """A finding as it is written for programs."""
    plain = _plain(found)
    parties = [
        {
            "what": party.what,
            "name": party.name,
            "file": party.file,
            "line": party.line,
            "found": text(party.found) or None,
        }
        for party in found.parties
    ]
    ways = [
        {
            "words": way_words(way),
            "says": message_record(way.words),
            "changes": list(map(_plain, way.changes)),
            "steps": step_records(way.whole),
            "brings": [{"rule": rule, "at": at} for rule, at in way.brings],
            "alters": way.alters,
            "stays": way.stays,
            "stops": [{"rule": rule, "at": at} for rule, at in way.stops],
        }
        for way in found.ways_out
    ]
    for name in ("also_at", "about"):
        del plain[name]
    return plain | {
        "title": text(found.title),
        "why": text(found.why),
        "follows": list(map(text, found.follows)),
        "says": {"title": message_record(found.title), "why": message_record(found.why)},
        "parties": parties,
        "ways_out": ways,
    }


def message_record(words: Words) -> dict[str, Any] | str:
    """What is said as facts: the slug of the sentence, and its facts by name; what was found as text is that text."""
    if isinstance(words, str):
        return words
    facts = {
        name: list(map(message_record, fact)) if isinstance(fact, tuple)
        else message_record(fact) if isinstance(fact, Message) else fact
        for name, fact in words.facts.items()
    }  # fmt: skip
    return {"sentence": words.slug, "facts": facts}


def view_json(view: WhereView | FolderView) -> str:
    """One address or one folder in full."""
    command_ = command(view.remedy) if view.remedy is not None else None
    says: dict[str, Any] = {"words": message_record(view.words)}
    if isinstance(view, WhereView):
        says |= {name: list(map(message_record, getattr(view, name))) for name in ("chain", "depends")}
    return document(_plain(view) | {"remedy": command_, "says": says})


def _plain(record: msgspec.Struct) -> dict[str, Any]:
    """The fields of a record, with what is said in words."""
    return {name: worded(value) for name, value in msgspec.structs.asdict(record).items()}


def worded(value: Any) -> Any:
    """The same with the words of each message in its place."""
    if isinstance(value, Message):
        return text(value)
    if isinstance(value, dict):
        return {name: worded(one) for name, one in value.items()}
    return list(map(worded, value)) if isinstance(value, list) else value


def document(body: dict[str, Any], version: int = SCHEMA) -> str:
    """A whole document, with its schema's version."""
    plain = msgspec.to_builtins({"kettlepost": version, **body}, enc_hook=_text, str_keys=True)
    raw = msgspec.json.encode(gate.data(plain), order="deterministic")
    return msgspec.json.format(raw, indent=2).decode() + "\n"


def _text(value: object) -> str:
    if isinstance(value, str):
        return printable(value)
    raise InputError(f"{type(value).__name__} cannot be written as JSON")
