"""Results for programs: JSON with the schema's version, sorted keys and safe names."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import msgspec

from kettlepost.core.errors import InputError
from kettlepost.core.layout import AddressRow, FolderRow
from kettlepost.core.names import printable
from kettlepost.core.plan import Edit
from kettlepost.core.rules import Checked, Finding
from kettlepost.core.survey import Survey, encode_survey

if TYPE_CHECKING:
    from kettlepost.core.placing import Difference

SCHEMA = 1


def check_json(checked: Checked) -> str:
    return document(
        {
            "findings": [finding_record(found) for found in checked.findings],
            "counts": checked.counts,
            "accepted": checked.accepted,
            "accounts": checked.accounts,
            "unsurveyed": checked.unsurveyed,
            "outdated": checked.outdated,
        }
    )


def addresses_json(accounts: dict[str, list[AddressRow]]) -> str:
    return document({"by": "address", "accounts": {name: list(map(_plain, rows)) for name, rows in accounts.items()}})


def folders_json(accounts: dict[str, list[FolderRow]]) -> str:
    return document({"by": "folder", "accounts": {name: list(map(_plain, rows)) for name, rows in accounts.items()}})


def survey_json(survey: Survey) -> str:
    return encode_survey(survey).decode()


def surveys_json(surveys: Sequence[Survey]) -> str:
    """Several surveys in one document, by account."""
    ordered = sorted(surveys, key=lambda survey: survey.account)
    inner = ",\n".join(encode_survey(survey).decode().rstrip("\n") for survey in ordered)
    return f'{{"kettlepost":{SCHEMA},\n"surveys":[\n{inner}\n]}}\n'


def record_json(record: msgspec.Struct) -> str:
    """One record, its keys as the document's."""
    return document(_plain(record))


def line_json(record: dict[str, Any]) -> str:
    """One record of many, on a line of its own."""
    return msgspec.json.encode({"kettlepost": SCHEMA, **record}, enc_hook=_text, order="deterministic").decode() + "\n"


def records_json(head: dict[str, Any], name: str, records: Sequence[msgspec.Struct]) -> str:
    """A list of records under `name`, after what `head` says of them."""
    return document({**head, name: list(map(_plain, records))})


def change_json(
    edit: Edit, told: Sequence[str], following: Sequence[str], difference: Difference | None, done: bool
) -> str:
    """A change of the plan: its unified diff, what to do next, and the findings it brings and ends."""
    added, ended = (difference.added, difference.gone) if difference is not None else ((), ())
    return document(
        {
            "file": edit.file,
            "difference": _lines(edit.difference),
            "told": told,
            "next": following,
            "adds": [finding_record(found) for found in added],
            "ends": [finding_record(found) for found in ended],
            "written": done,
        }
    )


def finding_record(found: Finding) -> dict[str, Any]:
    """A finding as it is written for programs."""
    plain = _plain(found)
    parties = [
        {"what": party.what, "name": party.name, "file": party.file, "line": party.line, "found": party.found or None}
        for party in found.parties
    ]
    ways = [{"words": way.words, "changes": list(map(_plain, way.changes))} for way in found.ways_out]
    for name in ("also_at", "about"):
        del plain[name]
    return plain | {"parties": parties, "ways_out": ways}


def _plain(record: msgspec.Struct) -> dict[str, Any]:
    return msgspec.structs.asdict(record)


def document(body: dict[str, Any]) -> str:
    """A whole document, with the schema's version."""
    raw = msgspec.json.encode({"kettlepost": SCHEMA, **body}, enc_hook=_text, order="deterministic")
    return msgspec.json.format(raw, indent=2).decode() + "\n"


def _lines(text: str) -> list[str]:
    return [printable(line) for line in text.splitlines()]


def _text(value: object) -> str:
    if isinstance(value, str):
        return printable(value)
    raise InputError(f"{type(value).__name__} cannot be written as JSON")
