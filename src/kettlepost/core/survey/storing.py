"""Storing surveys beside the plan and reading them back."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path
from typing import Any

import msgspec

from kettlepost.core.errors import InputError, OutsideError, cause
from kettlepost.core.names import Folder, printable, unprintable
from kettlepost.core.plan import Plan, write_whole
from kettlepost.core.survey.records import FoundApplication, FoundFolder, FoundLink, FoundPlaceholder, Survey

LARGEST_SURVEY = 512 * 1024 * 1024
_LISTS = ("folders", "links", "placeholders", "applications")


def survey_path(plan: Plan, account: str) -> Path:
    return plan.folder / "surveys" / f"{account}.json"


def store_survey(plan: Plan, survey: Survey) -> Path:
    """Write the survey whole, one folder a line, in stable order; returns its path."""
    path = survey_path(plan, survey.account)
    write_whole(path, encode_survey(survey))
    return path


def read_survey(plan: Plan, account: str) -> Survey | None:
    """The stored survey of an account, or None when none was taken.

    Raises InputError when the file is no survey of that account, OutsideError when it cannot
    be read.
    """
    path = survey_path(plan, account)
    again = f"take it again: kettlepost survey {account} --from PATH"
    try:
        with path.open("rb") as file:
            raw = file.read(LARGEST_SURVEY + 1)
    except FileNotFoundError:
        return None
    except OSError as error:
        raise OutsideError(f"{printable(path)}: cannot be read ({cause(error)})") from None
    if len(raw) > LARGEST_SURVEY:
        raise InputError(f"{printable(path)}: larger than {LARGEST_SURVEY >> 20} MiB, so no survey; {again}")
    try:
        survey = _DECODER.decode(raw)
        if b"\\" in raw:
            _unescape(survey)
    except (msgspec.MsgspecError, ValueError, RecursionError) as error:
        raise InputError(f"{printable(path)}: not a survey ({printable(str(error))}); {again}") from None
    if survey.account != account:
        other = printable(survey.account)
        raise InputError(f'{printable(path)}: the survey of account "{other}", not of "{account}"; {again}')
    return survey


def read_surveys(plan: Plan, accounts: Iterable[str]) -> dict[str, Survey]:
    """The stored surveys of `accounts`, by account; those that have none are left out."""
    found = {name: read_survey(plan, name) for name in accounts}
    return {name: survey for name, survey in found.items() if survey is not None}


def encode_survey(survey: Survey) -> bytes:
    """The survey as JSON: a head line, then each list with one record a line."""
    head = {name: _escaped_value(getattr(survey, name)) for name in ("kettlepost", "account", "taken", "source")}
    parts = [_encode(head)[:-1]]
    for name in _LISTS:
        lines = b",\n".join(_encode(_escaped(record)) for record in getattr(survey, name))
        parts.append(b'"%s":[\n%s\n]' % (name.encode(), lines) if lines else b'"%s":[]' % name.encode())
    return b",\n".join(parts) + b"}\n"


def _encode(value: Any) -> bytes:
    return msgspec.json.encode(value)


def _escaped(record: FoundFolder | FoundLink | FoundPlaceholder | FoundApplication) -> dict[str, Any]:
    """The record with every name in the form that can be stored (see `printable`)."""
    return {
        key: _escaped_value(value) for key, value in msgspec.structs.asdict(record).items() if value or key == "folder"
    }


def _escaped_value(value: Any) -> Any:
    if isinstance(value, str):
        return printable(value)
    return [printable(item) for item in value] if isinstance(value, list) else value


def _unescape(survey: Survey) -> None:
    """Turn every name back into itself, in place; most files hold none that was escaped."""
    survey.source = unprintable(survey.source)
    for records in (survey.folders, survey.links, survey.placeholders, survey.applications):
        for record in records:
            for name in record.__struct_fields__[1:]:
                value = getattr(record, name)
                if isinstance(value, str):
                    setattr(record, name, unprintable(value))
                elif isinstance(value, list):
                    setattr(record, name, [unprintable(one) for one in value])


def _decode_name(kind: type[Any], value: Any) -> Any:
    if kind is not Folder or not isinstance(value, str):
        raise TypeError("expected a folder")
    return Folder.parse(value)


_DECODER = msgspec.json.Decoder(Survey, dec_hook=_decode_name)
