"""A survey as the JSON text it is stored as, and back."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import lru_cache
from typing import Any

import msgspec

from kettlepost.core.errors import InputError
from kettlepost.core.names import Folder, printable, quoted, unprintable
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.survey.records import Survey

LARGEST_SURVEY = 512 * 1024 * 1024
_HEAD = ("kettlepost", "account", "taken", "source", "contents", "names")
_LISTS = tuple(name for name in Survey.__struct_fields__ if name not in _HEAD)


def decode_survey(raw: bytes, name: str, account: str) -> Survey:
    """The survey of `account` that the file called `name` holds. Raises InputError when it is none."""
    again = Remedy.of(Action.TAKE_SURVEY, account)
    if len(raw) > LARGEST_SURVEY:
        raise InputError(f"{printable(name)}: larger than {LARGEST_SURVEY >> 20} MiB, so no survey", again)
    try:
        survey = _DECODER.decode(raw)
        for name in _escaped_lists(raw) if b"\\" in raw else ():
            setattr(survey, name, _unescape(getattr(survey, name)))
    except (msgspec.MsgspecError, ValueError, RecursionError) as error:
        raise InputError(f"{printable(name)}: not a survey ({printable(str(error))})", again) from None
    if survey.account != account:
        raise InputError(
            f"{printable(name)}: the survey of account {quoted(survey.account)}, not of {quoted(account)}", again
        )
    return survey


def _escaped_lists(raw: bytes) -> Sequence[str]:
    """The parts of a survey in which a name is escaped, where it is written as it is here; all of them otherwise."""
    begins = {name: raw.find(b'\n"%s":[' % name.encode()) for name in _LISTS}
    there = [(begin, name) for name, begin in begins.items() if begin >= 0]
    if there != sorted(there) or b"\\" in raw[: there[0][0] if there else len(raw)]:
        return Survey.__struct_fields__
    ends = [begin for begin, _ in there[1:]] + [len(raw)]
    return [name for (begin, name), end in zip(there, ends, strict=True) if b"\\" in raw[begin:end]]


def encode_survey(survey: Survey) -> bytes:
    """The survey as JSON: a head line, then each list with one record a line."""
    return b"".join(survey_pieces(survey))


def survey_pieces(survey: Survey) -> Iterator[bytes]:
    """The same piece by piece."""
    yield _encode({name: _escaped(getattr(survey, name)) for name in _HEAD})[:-1]
    for name in _LISTS:
        if getattr(survey, name) is None:
            continue
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
        return [_escaped(item) for item in value]
    if isinstance(value, msgspec.Struct):
        required = {known.name for known in msgspec.structs.fields(value) if known.required}
        return {
            name: _escaped(item) for name, item in msgspec.structs.asdict(value).items() if item or name in required
        }
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


# accounts with the same applications have the same folders in them
_stored = lru_cache(1 << 16)(Folder.stored)


_DECODER = msgspec.json.Decoder(Survey, dec_hook=_decode_name)
