"""Writes docs/plan-keys.md from the docstrings of the plan's records."""

import inspect
import re
import types
import typing
from pathlib import Path

import msgspec

from kettlepost.core.plan import applications, records

HEAD = """\
# The keys of a plan

Made by `make docs` from the records themselves. A key that no table knows is an error which names
the nearest that it knows. No password is ever in a plan. Host names, addresses and folders are
accepted as people write them, international ones too; folders are relative to the account's home.
"""
FILES = {
    "kettlepost.toml": [
        ("[settings]", records.Settings),
        ("[settings.waits]", records.Waits),
        ("[settings.asking]", records.AskingSettings),
        ("[package.NAME]", records.Package),
        ("[web_server.NAME]", records.WebServer),
        ("[[application]]", applications.Application),
        ("version of an application", applications.VersionMark),
        ("config of an application", applications.ConfigMark),
        ("needs of an application", applications.Needs),
        ("shows of an application", applications.PublicMarks),
        ("stops_mail of an application", applications.AddedFile),
        ("data of an application", applications.DataKind),
    ],
    "accounts/NAME.toml": [
        ("[account]", records.AccountSettings),
        ("[[domain]]", records.Domain),
        ("[[installation]]", records.Installation),
        ("database of an installation", records.Database),
        ("kept_current of an installation", records.KeptCurrent),
        ("copies of an installation", records.Copies),
        ("[[path_alias]]", records.PathAlias),
        ("[[path_rule]]", records.PathRule),
        ("[[moved]]", records.Moved),
        ("[[certificate]]", records.Certificate),
        ("[[accept]]", records.AcceptEntry),
    ],
}
_WORDS = {
    "str": "text",
    "int": "number",
    "float": "number",
    "bool": "true or false",
    "HostName": "host name",
    "Folder": "folder",
    "Address": "address",
    "date": "date",
    "Database": "table",
    "VersionMark": "table",
    "ConfigMark": "table",
    "Needs": "table",
    "Waits": "table",
    "KeptCurrent": "table",
    "Copies": "table",
    "AskingSettings": "table",
    "PublicMarks": "table",
    "AddedFile": "table",
    "DataKind": "table",
}


def reference_page() -> str:
    parts = [HEAD]
    for file, tables in FILES.items():
        parts.append(f"\n## {file}\n")
        for title, record in tables:
            parts += ["\n", _section(title, record)]
    return "".join(parts)


def _section(title: str, record: type[msgspec.Struct]) -> str:
    said, _, keys = (inspect.getdoc(record) or "").partition("Keys:\n")
    told = dict(re.findall(r"^    (\w+): (.*)$", keys, re.MULTILINE))
    hints = typing.get_type_hints(record)
    lines = [f"### `{title}`" if title.startswith("[") else f"### The {title}", "", said.strip(), ""]
    lines += ["| key | what it holds | without it | what it says |", "| --- | --- | --- | --- |"]
    for field in msgspec.structs.fields(record):
        text = told.pop(field.encode_name).replace("|", "\\\\|")
        lines.append(f"| `{field.encode_name}` | {_kind(hints[field.name])} | {_default(field)} | {text} |")
    if told:
        raise ValueError(f"{record.__name__} has no {', '.join(told)}")
    return "\n".join(lines) + "\n"


def _kind(hint: object) -> str:
    origin, inner = typing.get_origin(hint), typing.get_args(hint)
    if origin in (typing.Union, types.UnionType):
        return _kind(next(part for part in inner if part is not type(None)))
    if origin is typing.Literal:
        return ", ".join(f"`{word}`" for word in inner)
    if origin in (list, tuple):
        if typing.get_origin(inner[0]) is typing.Literal:
            return f"list of {_kind(inner[0])}"
        return f"list of {_WORDS[inner[0].__name__]}s" if inner[0] is not str else "list of texts"
    return _WORDS[hint.__name__]  # type: ignore[attr-defined]


def _default(field: msgspec.structs.FieldInfo) -> str:
    if field.required:
        return "*needed*"
    value = field.default if field.default is not msgspec.NODEFAULT else field.default_factory()
    if value in (None, "", [], ()):
        return "-"
    if isinstance(value, bool):
        return str(value).lower()
    return ", ".join(f"`{part}`" for part in value) if isinstance(value, list | tuple) else f"`{value}`"


if __name__ == "__main__":
    Path(__file__).with_name("plan-keys.md").write_text(reference_page(), "utf-8")
