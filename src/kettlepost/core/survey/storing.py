"""Storing surveys beside the plan and reading them back."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Any

import msgspec

from kettlepost.core.errors import InputError, OutsideError, cause
from kettlepost.core.files import read_at_most
from kettlepost.core.names import Folder, printable, unprintable
from kettlepost.core.plan import Plan, write_whole
from kettlepost.core.survey.records import Survey

LARGEST_SURVEY = 512 * 1024 * 1024
_HEAD = ("kettlepost", "account", "taken", "source", "contents")
_LISTS = tuple(name for name in Survey.__struct_fields__ if name not in _HEAD)


def survey_path(folder: Path, account: str, before: bool = False) -> Path:
    return folder / "surveys" / (f"{account}.before.json" if before else f"{account}.json")


def store_survey(plan: Plan, survey: Survey) -> Path:
    """Write the survey whole, one folder a line, in stable order; returns its path.

    The one that was there is kept as `surveys/ACCOUNT.before.json`.
    """
    path = survey_path(plan.folder, survey.account)
    write_whole(path, _pieces(survey), keep=survey_path(plan.folder, survey.account, before=True))
    return path


def read_survey(plan: Plan, account: str, before: bool = False) -> Survey | None:
    """The stored survey of an account, or the one before it; None when there is none.

    Raises InputError when the file is no survey of that account, OutsideError when it cannot
    be read.
    """
    path = survey_path(plan.folder, account, before)
    raw = survey_bytes(path)
    return decode_survey(raw, path, account) if raw is not None else None


def survey_bytes(path: Path) -> bytes | None:
    """What a survey's file holds; None when there is none. Raises OutsideError."""
    try:
        return read_at_most(path, LARGEST_SURVEY)
    except FileNotFoundError:
        return None
    except OSError as error:
        raise OutsideError(f"{printable(path)}: cannot be read ({cause(error)})") from None


def decode_survey(raw: bytes, path: Path, account: str) -> Survey:
    """The survey of `account` that was read from `path`. Raises InputError when it is none."""
    again = f"take it again: kettlepost survey {account} --from PATH"
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
    return b"".join(_pieces(survey))


def _pieces(survey: Survey) -> Iterator[bytes]:
    yield _encode({name: _escaped(getattr(survey, name)) for name in _HEAD})[:-1]
    for name in _LISTS:
        yield b',\n"%s":[' % name.encode()
        between = b"\n"
        for record in getattr(survey, name):
            yield between + _line(record)
            between = b",\n"
        yield b"]" if between == b"\n" else b"\n]"
    yield b"}\n"


def _line(record: msgspec.Struct) -> bytes:
    """One record; names that hold what cannot be stored as it is are escaped (see `printable`)."""
    try:
        line = _encode(record)
        if b"\\" not in line and line.decode().isprintable():
            return line
    except UnicodeEncodeError:
        pass
    return _encode(_escaped(record))


def _encode(value: Any) -> bytes:
    return msgspec.json.encode(value, enc_hook=str)


def _escaped(value: Any) -> Any:
    if isinstance(value, str):
        return printable(value)
    if isinstance(value, list | tuple):
        return [_escaped(one) for one in value]
    if isinstance(value, msgspec.Struct):
        required = {known.name for known in msgspec.structs.fields(value) if known.required}
        return {name: _escaped(one) for name, one in msgspec.structs.asdict(value).items() if one or name in required}
    return value


def _unescape(value: Any) -> Any:
    """Turn every escaped name in a survey back into itself, in place."""
    if type(value) is str:
        return unprintable(value)
    if isinstance(value, tuple):
        return tuple(map(_unescape, value))
    if isinstance(value, list):
        value[:] = map(_unescape, value)
    elif isinstance(value, msgspec.Struct):
        for name in value.__struct_fields__:
            setattr(value, name, _unescape(getattr(value, name)))
    return value


def _decode_name(kind: type[Any], value: Any) -> Any:
    if kind is not Folder or type(value) is not str:
        raise TypeError("expected a folder")
    return _stored(value)


_stored = Folder.stored


_DECODER = msgspec.json.Decoder(Survey, dec_hook=_decode_name)
