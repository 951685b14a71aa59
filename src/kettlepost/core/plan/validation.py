"""Why a document does not fit the plan's records, said for people, with the line of each fault."""

from __future__ import annotations

import datetime
import types
import typing
from collections.abc import Iterator
from functools import cache
from typing import Any

import msgspec

from kettlepost.core.errors import Fault
from kettlepost.core.names import did_you_mean, quoted
from kettlepost.core.plan.source import Key, SourceFile

_WORDS = {
    str: "text in quotes",
    bool: "true or false",
    int: "a whole number",
    datetime.date: "a date such as 2027-04-01",
}
_KINDS = {bool: "true or false", int: "a number", float: "a number", str: "text", list: "a list", dict: "a table"}


_ALSO_CALLED = {
    "main": "primary", "master": "primary", "parked": "alias", "pointer": "alias", "add-on": "addon", "add_on": "addon",
    "sub": "subdomain", "temp": "temporary", "active": "live", "deployed": "live", "installed": "live",
    "new": "planned", "todo": "planned", "old": "retired", "gone": "retired", "yes": "both", "none": "apart",
    "www-only": "www", "mariadb": "mysql", "postgres": "postgresql",
}  # fmt: skip
"""What people write for a choice that is called otherwise here."""

Said = tuple[Key, str, str]
"""A key, the kind of fault, and what is wrong and right."""


def validate(source: SourceFile, data: object, kind: Any, hook: Any) -> list[Fault]:
    """Every place where `data` is not a `kind`, with what would be right."""
    return [source.fault(key, code, text) for key, code, text in _walk(data, kind, (), hook)]


def _walk(data: Any, kind: Any, key: Key, hook: Any) -> Iterator[Said]:
    kind = _bare(kind)
    origin = typing.get_origin(kind)
    if origin in (list, tuple):
        inner = typing.get_args(kind)[0]
        if not isinstance(data, list):
            yield key, "wrong-type", f"{_name(key)} is to be a list{_hint(key, inner, data)}, not {_found(data)}"
            return
        for n, item in enumerate(data):
            yield from _walk(item, inner, (*key, n), hook)
    elif origin is dict:
        if not isinstance(data, dict):
            yield key, "wrong-type", f"{_name(key)} is to be a table, not {_found(data)}"
            return
        for name, item in data.items():
            yield from _walk(item, typing.get_args(kind)[1], (*key, name), hook)
    elif isinstance(kind, type) and issubclass(kind, msgspec.Struct):
        yield from _walk_table(data, kind, key, hook)
    else:
        yield from _walk_value(data, kind, key, hook)


@cache
def _known(kind: type[msgspec.Struct]) -> tuple[dict[str, Any], dict[str, msgspec.structs.FieldInfo]]:
    """The types and the fields of a table's record, by the names that its keys have in a file."""
    hints, fields = typing.get_type_hints(kind), msgspec.structs.fields(kind)
    names = {field.encode_name: field for field in fields}
    return {name: hints[field.name] for name, field in names.items()}, names


def _walk_table(data: Any, kind: type[msgspec.Struct], key: Key, hook: Any) -> Iterator[Said]:
    if not isinstance(data, dict):
        yield key, "wrong-type", f"{_name(key)} is to be a table, not {_found(data)}"
        return
    hints, fields = _known(kind)
    for name in data:
        if name not in fields:
            known = ", ".join(fields)
            yield (
                (*key, name),
                "unknown-key",
                f"{quoted(name)} is no key of {_name(key)}{did_you_mean(name, fields)} (known: {known})",
            )
    for name, field in fields.items():
        if name in data:
            yield from _walk(data[name], hints[name], (*key, name), hook)
        elif field.required:
            yield key, "missing-key", f"{_name(key)} lacks {quoted(name)}"


def _walk_value(data: Any, kind: Any, key: Key, hook: Any) -> Iterator[Said]:
    name = _name(key)
    if typing.get_origin(kind) is typing.Literal:
        choices = [str(choice) for choice in typing.get_args(kind)]
        if data not in choices:
            said = quoted(data) if isinstance(data, str) else _found(data)
            guess = _meant(data, choices) if isinstance(data, str) else ""
            yield key, "not-a-choice", f"{name} {said} is not one of {', '.join(choices)}{guess}"
        return
    try:
        msgspec.convert(data, kind, dec_hook=hook)
    except msgspec.ValidationError as error:
        if kind in _WORDS:
            yield key, "wrong-type", f"{name} is to be {_WORDS[kind]}, not {_found(data)}"
        elif isinstance(data, str):
            yield key, "invalid-name", f"{name}: {error}"
        else:
            yield key, "wrong-type", f"{name} is to be text in quotes, not {_found(data)}"


def _meant(written: str, choices: list[str]) -> str:
    """The choice that was probably meant, as the end of a message."""
    other = _ALSO_CALLED.get(written.strip().lower())
    return f'; write "{other}"' if other in choices else did_you_mean(written, choices)


def _bare(kind: Any) -> Any:
    if typing.get_origin(kind) in (typing.Union, types.UnionType):
        return next(part for part in typing.get_args(kind) if part is not type(None))
    return kind


def _name(key: Key) -> str:
    words = [str(part) for part in key if isinstance(part, str)]
    if not words:
        return "the file"
    return words[-1] if len(key) > 1 and not isinstance(key[-1], int) and len(words) > 1 else f"[{words[-1]}]"


def _hint(key: Key, inner: Any, data: Any) -> str:
    tables = isinstance(inner, type) and issubclass(inner, msgspec.Struct)
    return f" of tables, each begun with [[{key[-1]}]]" if tables and isinstance(data, dict) else ""


def _found(data: Any) -> str:
    if isinstance(data, str):
        return f"the text {quoted(data)}"
    if isinstance(data, datetime.date | datetime.time):
        return "a date or time"
    return _KINDS.get(type(data), type(data).__name__)
