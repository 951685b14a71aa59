"""Changes to a plan, carried out on the text of its files so that comments and order survive."""

from __future__ import annotations

import datetime
import re
from collections import defaultdict
from collections.abc import Iterable, Sequence
from functools import cache
from typing import Any

import rtoml
from msgspec import NODEFAULT, Struct, field
from msgspec.structs import FieldInfo, fields, force_setattr

from kettlepost.core.errors import InputError
from kettlepost.core.names import Folder, readable
from kettlepost.core.plan.records import Installation
from kettlepost.core.plan.source import Key
from kettlepost.core.plan.toml_text import (
    Header,
    Pair,
    Span,
    Statement,
    as_key,
    as_value,
    elements,
    inline_pairs,
    statements,
)


class Change(Struct, omit_defaults=True, frozen=True):
    """One change to an account's file.

    `number` is the table's place among those of its kind, from 0; without it a new table is
    written behind the last; of `account` there is one. `values` are the keys to set, None for a
    key to take out. A table is taken out whole when `drop` is true.
    """

    account: str
    table: str
    number: int | None = None
    values: dict[str, Any] = field(default_factory=dict)
    drop: bool = False

    def __post_init__(self) -> None:
        # names and folders are text of a kind of their own, which a file does not know
        force_setattr(self, "values", {key: _plain(value) for key, value in self.values.items()})


def _plain(value: Any) -> Any:
    if isinstance(value, str):
        return str(value)
    if isinstance(value, list | tuple):
        return [_plain(item) for item in value]
    return {key: _plain(item) for key, item in value.items()} if isinstance(value, dict) else value


@cache
def _fields(kind: type[Struct]) -> tuple[FieldInfo, ...]:
    return fields(kind)


def table_of(record: Struct) -> dict[str, Any]:
    """A record as a file writes it: without what is left to its default, but for the state of an installation."""
    table: dict[str, Any] = {}
    for known in _fields(type(record)):
        value = getattr(record, known.name)
        usual = known.default if known.default_factory is NODEFAULT else known.default_factory()
        if value != usual or (known.name == "state" and isinstance(record, Installation)):
            plain = isinstance(value, bool | list | int | datetime.date) or type(value) is str
            table[known.encode_name] = (
                table_of(value) if isinstance(value, Struct) else list(map(_written, value)) if isinstance(value, list)
                else value if plain else _written(value)
            )  # fmt: skip
    return table


def _written(value: object) -> str:
    """A name as people write it in a plan."""
    text = str(value).removesuffix("/")
    return text if isinstance(value, Folder) else readable(text)


def changed_text(text: str, changes: Sequence[Change]) -> str:
    """The text of one account's file once `changes` are carried out, in whatever order they come.

    Comments, order and line ends stay, however the file is written: a key that is new comes behind
    the last of its table, a table that is new behind the last of its kind. Raises InputError where
    the file cannot be kept so, which no known way of writing one brings about.
    """
    wanted = rtoml.loads(text)
    change_document(wanted, changes)
    try:
        changed = _Edited(text, changes).text
        if rtoml.loads(changed) == wanted:
            return changed
    except (KeyError, IndexError, ValueError):
        pass
    raise InputError(f"the file of account {changes[0].account} is written in a way that is not changed here; edit it")


class _Edited:
    """The pieces of a text that are replaced, and what it comes to with them."""

    def __init__(self, text: str, changes: Sequence[Change]):
        self._old = text
        self._end = "\r\n" if text.count("\r\n") * 2 > text.count("\n") else "\n"
        self._pieces: list[tuple[int, int, int, str]] = []
        self._statements = statements(text)
        self._below: dict[Key, list[Statement]] = defaultdict(list)  # by their path, and by each one it lies in
        for statement in self._statements:
            for length in range(1, len(statement.path) + 1):
                self._below[statement.path[:length]].append(statement)
        self._last = len(text.rstrip())
        self._inline = {
            found.path[0]: found.value
            for found in self._statements
            if isinstance(found, Pair) and len(found.path) == 1 and text[found.value.begin] in "[{"
        }
        self._carry_out(changes)

    def _carry_out(self, changes: Sequence[Change]) -> None:
        """Work out the pieces: keys to set, tables to take out and tables to write, each kind at once."""
        values, drops, adds = _sorted_out(changes)
        for key, new in values.items():
            if len(key) == 1 or key[1] not in drops.get(str(key[0]), ()):
                self._set_table(key, new)
        for table in dict.fromkeys((*drops, *adds)):
            gone = set(drops.get(table, ()))
            if table in self._inline:
                self._change_array(table, gone, adds.get(table, []))
                continue
            for number in sorted(gone):
                for block in self._blocks((table, number)):
                    self._take_out_block(block)
            if table in adds:
                self._add(table, adds[table], gone)

    @property
    def text(self) -> str:
        parts, at = [], 0
        for begin, end, _, new in sorted(self._pieces, key=lambda piece: piece[:3]):
            parts += [self._old[at : max(begin, at)], new]
            at = max(end, at)  # what is taken out twice, such as an empty line between, is so once
        text = "".join([*parts, self._old[at:]])
        if text.endswith("\n") and not self._old.endswith("\n") and self._old:
            return text.rstrip("\r\n")
        return text if text.endswith("\n") or not self._old.endswith("\n") else text + self._end

    def _replace(self, begin: int, end: int, new: str) -> None:
        self._pieces.append((begin, end, len(self._pieces), new))

    def _set_table(self, key: Key, values: dict[str, Any]) -> None:
        """Set keys of one table, however it is written."""
        inline = self._inline.get(str(key[0]))
        if inline is not None:
            if len(key) == 2:
                inline = elements(self._old, inline)[int(key[1])]
            self._set_inline(inline, values)
            return
        new: dict[str, Any] = {}
        for name, value in values.items():
            path = (*key, name)
            there = self._below.get(path, [])
            if value is None:
                self._take_out(there)
            elif not there:
                new[name] = value
            elif isinstance(value, dict):
                self._merge(path, value, there)
            else:
                self._replace(*self._exact(path).value, as_value(value))
        if new:
            self._new_keys(key, new)

    def _merge(self, path: Key, values: dict[str, Any], there: list[Statement]) -> None:
        """Set keys of a table within a table."""
        whole = next((statement for statement in there if isinstance(statement, Pair) and statement.path == path), None)
        if whole is not None:
            self._set_inline(whole.value, values)
            return
        new: dict[str, Any] = {}
        for name, value in values.items():
            known = next(
                (statement for statement in there if isinstance(statement, Pair) and statement.path == (*path, name)),
                None,
            )
            if known is None:
                if value is not None:
                    new[name] = value
            elif value is None:
                self._take_out([known])
            else:
                self._replace(*known.value, as_value(value))
        last = next((statement for statement in reversed(there) if isinstance(statement, Pair)), there[-1])
        begin = last.parts[:-1] if isinstance(last, Pair) else ()
        self._insert(last.lines.end, [f"{as_key((*begin, name))} = {as_value(value)}" for name, value in new.items()])

    def _new_keys(self, key: Key, values: dict[str, Any]) -> None:
        """Write keys that a table does not have yet behind those it has."""
        there = self._below[key]
        own = [statement for statement in there if isinstance(statement, Pair) and statement.table == key]
        begin: tuple[str, ...] = ()
        if own:
            at = own[-1].lines.end
        elif header := next(
            (statement for statement in there if isinstance(statement, Header) and statement.path == key), None
        ):
            at = header.lines.end
        else:  # a table that is made by dotted keys alone
            last = [statement for statement in there if isinstance(statement, Pair)][-1]
            at, begin = last.lines.end, last.parts[: len(last.parts) - (len(last.path) - len(key))]
        lines = [f"{as_key((*begin, name))} = {as_value(value)}" for name, value in values.items() if value is not None]
        self._insert(at, lines)

    def _set_inline(self, table: Span, values: dict[str, Any]) -> None:
        """Set keys of an inline table."""
        text, pairs = self._old, inline_pairs(self._old, table)
        kept = list(pairs)
        new: list[str] = []
        for name, value in values.items():
            there = [pair for pair in pairs if pair.path[0] == name]
            exact = next((pair for pair in there if len(pair.path) == 1), None)
            if value is None:
                kept = [pair for pair in kept if pair.path[0] != name]
            elif exact is not None and isinstance(value, dict) and text[exact.value.begin] == "{":
                self._set_inline(exact.value, value)
            elif exact is not None:
                self._replace(*exact.value, as_value(value))
            elif there and isinstance(value, dict):
                for inner, statement in value.items():
                    known = next((pair for pair in there if pair.path[1:] == (inner,)), None)
                    if statement is None:
                        kept = [pair for pair in kept if pair.path != (name, inner)]
                    elif known is not None:
                        self._replace(*known.value, as_value(statement))
                    else:
                        new.append(f"{as_key((name, inner))} = {as_value(statement)}")
            else:
                new.append(f"{as_key((name,))} = {as_value(value)}")
        if not kept:
            self._replace(table.begin + 1, table.end - 1, f" {', '.join(new)} " if new else "")
            return
        self._leave_only([pair.lines for pair in pairs], [pair.lines for pair in kept])
        self._replace(kept[-1].value.end, kept[-1].value.end, "".join(f", {statement}" for statement in new))

    def _leave_only(self, there: list[Span], kept: list[Span]) -> None:
        """Take those of the items between brackets out that are not kept, each with its comma; one at least is kept."""
        left = set(kept)
        for n, statement in enumerate(there):
            if statement in left:
                continue
            if any(other in left for other in there[n:]):
                self._replace(statement.begin, there[n + 1].begin, "")
            else:  # the last ones go with the comma before them
                self._replace(there[n - 1].end, there[-1].end, "")
                return

    def _change_array(self, table: str, gone: set[int], new: list[dict[str, Any]]) -> None:
        """Take tables out of an array that is written as one value, and write others behind those that stay."""
        array, written = self._inline[table], list(map(as_value, new))
        there = elements(self._old, array)
        kept = [statement for n, statement in enumerate(there) if n not in gone]
        if not kept and not written:
            self._take_out([statement for statement in self._below[table,] if statement.path == (table,)])
        elif not kept:
            self._replace(array.begin + 1, there[-1].end if there else array.begin + 1, ", ".join(written))
        else:
            self._leave_only(there, kept)
            if written:
                self._append(there, kept[-1], written)

    def _append(self, there: list[Span], behind: Span, written: list[str]) -> None:
        """Write further values behind one of an array, each on a line of its own where those before are."""
        text, end = self._old, behind.end
        line = text.rfind("\n", 0, there[-1].begin)
        if line < 0 or text[line + 1 : there[-1].begin].strip():
            self._replace(end, end, "".join(f", {statement}" for statement in written))
            return
        gap = ("\r\n" if text[line - 1] == "\r" else "\n") + text[line + 1 : there[-1].begin]
        rest = _REST_OF_LINE.match(text, end) if behind == there[-1] else None
        if rest is None:
            self._replace(end, end, "".join(f",{gap}{statement}" for statement in written))
            return
        if not rest[1]:
            self._replace(end, end, ",")
        self._replace(rest.end(), rest.end(), ",".join(f"{gap}{statement}" for statement in written) + rest[1])

    def _take_out_block(self, block: Span) -> None:
        """Take a block out with the empty line behind it, or before it where nothing follows."""
        begin, end = block
        following = self._old.find("\n", end)
        after = self._old[end : following + 1] if following >= 0 else ""
        if after and not after.strip():
            end = following + 1
        elif end >= self._last:
            end = len(self._old)
            before = self._old[:begin]
            while before.endswith(("\n\n", "\n\r\n")):
                before = before.removesuffix("\n").removesuffix("\r")
            begin = len(before)
        self._replace(begin, end, "")

    def _add(self, table: str, tables: list[dict[str, Any]], gone: set[int]) -> None:
        """Write tables behind the last of their kind that stays; `gone` are those that do not."""
        lines = []
        for values in tables:
            pairs = [f"{as_key((name,))} = {as_value(value)}" for name, value in values.items() if value is not None]
            lines += ["", f"[[{table}]]", *pairs]
        kin = {statement.path[1] for statement in self._below.get((table,), ()) if len(statement.path) > 1}
        kept = [number for number in kin if isinstance(number, int) and number not in gone]
        if kept:
            at = self._behind_comments(max(block.end for block in self._blocks((table, max(kept)))))
        elif kin:
            at = self._blocks((table, 0))[0].begin
        else:
            at = self._old.find("\n", self._last) + 1 or len(self._old)
        self._insert(at, lines if at else lines[1:])

    def _behind_comments(self, at: int) -> int:
        """Behind the comments that stand directly below a table and head nothing that follows."""
        end = at
        while (found := _COMMENT.match(self._old, end)) and found.end() > end:
            end = found.end()
        return end if end == len(self._old) or _EMPTY.match(self._old, end) else at

    def _exact(self, path: Key) -> Pair:
        """The pair that writes a key whole. Raises KeyError."""
        for statement in self._below.get(path, ()):
            if isinstance(statement, Pair) and statement.path == path:
                return statement
        raise KeyError(path)

    def _blocks(self, key: Key) -> list[Span]:
        """The lines of a table and of those in it: each from its header to behind its last key."""
        found: list[Span] = []
        for statement in self._below.get(key, ()):
            if isinstance(statement, Header):
                found.append(statement.lines)
            elif found and statement.table[: len(key)] == key:
                found[-1] = Span(found[-1].begin, statement.lines.end)
        merged: list[Span] = []
        for block in found:
            if merged and not self._old[merged[-1].end : block.begin].strip():
                merged[-1] = Span(merged[-1].begin, block.end)
            else:
                merged.append(block)
        if not merged:
            raise KeyError(key)
        return merged

    def _take_out(self, there: Sequence[Statement]) -> None:
        for statement in there:
            self._replace(statement.lines.begin, statement.lines.end, "")

    def _insert(self, at: int, lines: list[str]) -> None:
        """Write whole lines at `at`, each ended as the line before it."""
        if not lines:
            return
        before = self._old[max(at - 2, 0) : at]
        end = "\r\n" if before == "\r\n" else "\n" if before.endswith("\n") else self._end
        begin = "" if not before or before.endswith("\n") else end
        self._replace(at, at, begin + "".join(line + end for line in lines))


_COMMENT = re.compile(r"[ \t]*#[^\n]*(?:\n|\Z)")
_EMPTY = re.compile(r"[ \t]*\r?(?:\n|\Z)")
_REST_OF_LINE = re.compile(r"[ \t]*(,?)[ \t]*(?:#[^\r\n]*)?(?=\r?\n)")
"""What may stand behind a value in an array before the line ends: a comma, a comment."""


def _update(values: dict[str, Any], more: dict[str, Any]) -> None:
    for key, value in more.items():
        known = values.get(key)
        values[key] = {**known, **value} if isinstance(value, dict) and isinstance(known, dict) else value


def change_document(document: dict[str, Any], changes: Iterable[Change]) -> None:
    """Carry `changes` out on what a parser made of an account's file."""
    for change in sorted(changes, key=lambda change: (change.drop, -(change.number or 0))):
        if change.table == "account":
            _set(document["account"], change.values)
        elif change.number is None:
            table: dict[str, Any] = {}
            _set(table, change.values)
            document.setdefault(change.table, []).append(table)
        elif change.drop:
            del document[change.table][change.number]
            if not document[change.table]:
                del document[change.table]
        else:
            _set(document[change.table][change.number], change.values)


def _set(table: dict[str, Any], values: dict[str, Any]) -> None:
    for key, value in values.items():
        if value is None:
            table.pop(key, None)
        elif isinstance(value, dict):
            inner = dict(table.get(key, {}))
            _set(inner, value)
            table[key] = inner
        else:
            table[key] = value


def _sorted_out(
    changes: Sequence[Change],
) -> tuple[dict[Key, dict[str, Any]], dict[str, list[int]], dict[str, list[dict[str, Any]]]]:
    """Changes by kind: the keys to set by table, the tables to take out, and those to write."""
    values: dict[Key, dict[str, Any]] = {}
    drops: dict[str, list[int]] = {}
    adds: dict[str, list[dict[str, Any]]] = {}
    for change in changes:
        if change.table == "account":
            values.setdefault(("account",), {}).update(change.values)
        elif change.number is None:
            adds.setdefault(change.table, []).append(change.values)
        elif change.drop:
            drops.setdefault(change.table, []).append(change.number)
        else:
            _update(values.setdefault((change.table, change.number), {}), change.values)
    return values, drops, adds
