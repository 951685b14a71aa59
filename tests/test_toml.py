"""Editing a plan's text: however one and the same plan is written, the same change comes to the same plan."""

from __future__ import annotations

import itertools
import re
from typing import Any

import pytest
import rtoml
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import examples
from kettlepost.core.plan import Change, change_document, changed_text
from kettlepost.core.plan.source import lines_of
from messes import LOOSE, some

VALUES = some(["www", "a b", 'it "is"', "back\\slash", "é", True, False, 7, ["x.example", "y.example"], []])
Document = dict[str, Any]


@st.composite
def documents(draw: st.DrawFn) -> Document:
    """An account's file as a parser would read it."""
    keys = some(["root", "of", "path", "also", "https"])
    domains = [
        {"name": f"d{n}.example"} | draw(st.dictionaries(keys, VALUES, max_size=2))
        for n in range(draw(st.integers(0, 3)))
    ]
    bases = st.dictionaries(some(["prefix", "user"]), some(["p_", "u"]), max_size=2)
    installations = [
        {"address": f"i{n}.example"} | draw(some([{}, {"database": {"name": "m"} | draw(bases)}]))
        for n in range(draw(st.integers(0, 3)))
    ]
    found: Document = {"account": {"name": "m"} | draw(st.dictionaries(some(["home", "client"]), some(["x", "y"])))}
    found |= {"domain": domains} if domains else {}
    return found | ({"installation": installations} if installations else {})


@st.composite
def changes(draw: st.DrawFn, document: Document) -> list[Change]:
    found: list[Change] = []
    if draw(st.booleans()):
        found.append(Change("m", "account", None, {"package": "tin", "home": draw(some(["/h", None]))}))
    for table, new in (("domain", {"name": "new.example", "root": "new"}), ("installation", {"address": "n.example"})):
        for number in range(len(document.get(table, ()))):
            what = draw(some(["leave", "leave", "set", "base", "drop"]))
            if what == "set":
                found.append(Change("m", table, number, draw(st.dictionaries(some(["root", "x y", "name"]), VALUES))))
            elif what == "base" and table == "installation":
                values = draw(some([{"prefix": "q_"}, {"prefix": None, "name": "other"}, {"user": "v", "server": "s"}]))
                found.append(Change("m", table, number, {"database": values}))
            elif what == "drop":
                found.append(Change("m", table, number, drop=True))
        more = {"database": {"name": "b"}} if draw(st.booleans()) else {}
        found += [Change("m", table, None, new | more)] * draw(st.integers(0, 2))
    return draw(st.permutations(found))


@st.composite
def writings(draw: st.DrawFn, document: Document) -> str:
    """One of the ways of writing a document: every style of TOML there is, each comment once."""
    marks = itertools.count()

    def comment() -> str:
        return draw(some(["", f"  # c{next(marks)}c [x] = '"]))

    def key(*parts: str) -> str:
        quoted = [draw(some([p, p, f'"{p}"', f"'{p}'"])) if re.fullmatch(r"\w+", p) else f'"{p}"' for p in parts]
        return draw(some([".", " . "])).join(quoted)

    def plain(value: Any) -> str:
        return rtoml.dumps({"x": value}).partition("=")[2].strip()

    def inline(table: dict[str, Any]) -> str:
        inner: list[str] = []
        for name, value in table.items():
            if isinstance(value, dict) and draw(st.booleans()):
                inner += [f"{key(name, one)} = {plain(two)}" for one, two in value.items()]
            else:
                inner.append(f"{key(name)}={inline(value) if isinstance(value, dict) else plain(value)}")
        return draw(some(["{ %s }", "{%s}"])) % ", ".join(inner)

    def pairs(table: dict[str, Any], *above: str) -> list[str]:
        return [
            f"{draw(some(['', '  ']))}{key(*above, name)} = {plain(value)}{comment()}" for name, value in table.items()
        ]

    first, later = list[list[str]](), list[list[str]]()
    account = document["account"]
    style = draw(some(["header", "dotted", "inline"]))
    if style == "header":
        later.append([f"[{key('account')}]{comment()}", *pairs(account)])
    else:
        first.append(pairs(account, "account") if style == "dotted" else [f"account = {inline(account)}{comment()}"])
    arrays: list[list[list[str]]] = []
    for table in ("domain", "installation"):
        records = document.get(table, [])
        if records and draw(some([True, False, False])):
            gap, end = draw(some([(" ", ""), ("\n  ", "\n"), ("\n", ",\n")]))
            note = comment() if "\n" in gap else ""
            first.append([f"{key(table)} = [{note}{gap}" + f",{gap}".join(map(inline, records)) + f"{end}]{comment()}"])
            continue
        blocks = []
        for record in records:
            block = [f"[[{key(table)}]]{comment()}"]
            base, rest = record.get("database"), {k: v for k, v in record.items() if k != "database"}
            block += pairs(rest)
            how = draw(some(["inline", "dotted", "table"])) if base else ""
            block += [f"database = {inline(base)}{comment()}"] if how == "inline" else []
            block += pairs(base, "database") if how == "dotted" else []
            block += [f"[{key(table, 'database')}]{comment()}", *pairs(base)] if how == "table" else []
            blocks.append(block)
        arrays.append(blocks)
    while any(arrays):  # arrays of tables in any order
        later.append(draw(some([one for one in arrays if one])).pop(0))
    lines: list[str] = []
    for block in [*draw(st.permutations(first)), *draw(st.permutations(later[:1])), *later[1:]]:
        lines += draw(some([[], [""], ["", f"# c{next(marks)}c", ""]])) + block
    end = draw(some(["\n", "\r\n", "mixed"]))
    text = "".join(line + (draw(some(["\n", "\r\n"])) if end == "mixed" else end) for line in lines)
    text = text.replace("\n\n", "\n\n") if end != "\r\n" else re.sub(r"(?<!\r)\n", "\r\n", text)
    return text.rstrip("\r\n") if draw(some([False, False, True])) else text


@settings(LOOSE, max_examples=examples(300))
@given(st.data())
def test_a_plan_comes_to_the_same_however_it_is_written(data: st.DataObject) -> None:
    document = data.draw(documents())
    asked = data.draw(changes(document))
    wanted = rtoml.loads(rtoml.dumps(document))
    change_document(wanted, asked)
    text = data.draw(writings(document))
    assert rtoml.loads(text) == document
    changed = changed_text(text, asked) if asked else text
    assert rtoml.loads(changed) == wanted
    assert lines_of(changed)
    assert changed.endswith("\n") == text.endswith("\n")
    kept = set(re.findall(r"c\d+c", changed))
    gone = set(re.findall(r"c\d+c", text)) - kept
    assert not gone or any(
        change.drop or None in change.values.values() or change.table == "installation" for change in asked
    )
    ends = [line[len(line.rstrip("\r\n")) :] for line in text.splitlines(keepends=True)]
    if asked and "" not in ends and set(ends) == {"\r\n"}:
        assert set(re.findall(r"\r?\n", changed)) == {"\r\n"}
    untouched = [line for line in text.split("\n") if line.startswith("# c")]
    there = [line for line in changed.split("\n") if line.startswith("# c")]
    assert there[:-1] == untouched[:-1]  # their own ends too
    assert [line.rstrip("\r") for line in there] == [line.rstrip("\r") for line in untouched]


@pytest.mark.parametrize(
    ("text", "change", "changed"),
    [
        ('account.name = "m"\ndomain = [ { name = "a.example", root = "www" } ]', Change("m", "domain", 0, {"root": "w"}),
         'account.name = "m"\ndomain = [ { name = "a.example", root = "w" } ]'),
        ('account.name = "m"\ndomain = [\n  { name = "a" }, # one\n]\n', Change("m", "domain", None, {"name": "b"}),
         'account.name = "m"\ndomain = [\n  { name = "a" }, # one\n  { name = "b" },\n]\n'),
        ('[account]\r\nname = "m"\n', Change("m", "account", None, {"home": "/h"}), '[account]\r\nname = "m"\nhome = "/h"\n'),
        ('[account]\nname = "m"', Change("m", "domain", None, {"name": "b"}), '[account]\nname = "m"\n\n[[domain]]\nname = "b"'),
        ('[[domain]]\nname = "b"\n# state\n\n# x\n', Change("m", "domain", None, {"name": "c"}),
         '[[domain]]\nname = "b"\n# state\n\n[[domain]]\nname = "c"\n\n# x\n'),
        ('[account]\nname = "m"\n[[domain]]\nname = "b"\n', Change("m", "domain", 0, drop=True), '[account]\nname = "m"\n'),
    ],
)  # fmt: skip
def test_only_what_is_asked_changes(text: str, change: Change, changed: str) -> None:
    assert changed_text(text, [change]) == changed
