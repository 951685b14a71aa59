"""The registers of domains and installations, as people keep them in a spreadsheet."""

from __future__ import annotations

import csv
import json

import pytest

from conftest import Work
from test_where import TABLES, TREE


def test_registers_tell_the_same_in_every_format(demo: tuple[Work, str]) -> None:
    for words, name in ((["installs"], "installations"), (["domain", "list"], "domains")):
        plain = demo[0].json(*words)[name]
        rows = list(csv.DictReader(demo[0].run(*words, "--format", "csv").stdout.splitlines()))
        page = demo[0].run(*words, "--format", "markdown").stdout.splitlines()
        text = demo[0].run(*words).stdout
        assert len(rows) == len(plain) == len(page) - 2
        assert f"{len(plain)} in all" in text
        for row, one in zip(rows, plain, strict=True):
            for column, value in one.items():
                shown = {True: "yes", False: "no"}.get(value, str(value)) if isinstance(value, bool) else str(value)
                assert row[column].removeprefix("'") == shown
                assert shown in text or column == "state"  # left out where all are live
    (shop,) = [one for one in demo[0].json("installs")["installations"] if one["database"] == "millb_shop"]
    assert shop == {
        "account": "millbrook", "address": "millbrookrail.example/shop", "admin": "millbrookrail.example/shop/till.php",
        "application": "barrowshop", "contact": "webkeeper@millbrookrail.example", "database": "millb_shop", "findings": 3,
        "folder": "www/shop", "prefix": "bs4_", "state": "planned", "version": "", "seen": "", "today": "", "written": "accounts/millbrook.toml:54",
    }  # fmt: skip
    told = json.dumps(demo[0].json("check", "--account", "millbrook"))
    assert told.count('"name": "millbrookrail.example/shop"') == shop["findings"]


def test_registers_are_filtered_and_sorted(work: Work) -> None:
    work.account(TABLES).there(TREE)
    rows = work.json("domain", "list", "--match", "kind=ADDON", "--match", "leads_to=->", "--sort", "-domain")[
        "domains"
    ]
    assert [(row["domain"], row["leads_to"]) for row in rows] == [
        ("trip.example", "-> round.example/"), ("round.example", "-> trip.example/"),
        ("c.example", "-> b.example/deep"),
    ]  # fmt: skip
    (main,) = work.json("domain", "list", "--match", "kind=primary")["domains"]
    assert (main["leads_to"], main["also"], main["https"], main["installations"]) == ("www", "www.a.example", True, 1)
    assert work.run("domain", "list", "--match", "domain=nothing").stdout == "none\n"
    found = work.json("installs", "--sort", "-findings")["installations"]
    assert [one["findings"] for one in found] == sorted((one["findings"] for one in found), reverse=True)


@pytest.mark.parametrize(
    "words", [["--sort", "adress"], ["--match", "adress=x"], ["--match", "=x"], ["--account", "x"]]
)
def test_an_unknown_column_names_the_known_ones(work: Work, words: list[str]) -> None:
    done = work.account(TABLES).run("installs", *words)
    assert done.returncode == 2
    assert ("address" in done.stderr) == ("account" not in words[0])


def test_an_international_name_is_found_written_and_shown_as_people_write_it(work: Work) -> None:
    work.account('[[domain]]\nname = "xn--mller-kva.example"\nkind = "primary"\nroot = "www"\n')
    assert work.run("domain", "list", "--match", "domain=Müller").stdout.splitlines()[1].startswith("müller.example ")
    assert work.json("domain", "list", "--match", "domain=müller")["domains"][0]["domain"] == "xn--mller-kva.example"
    placed = work.run("place", "wordpress", "größe.example", "--account", "millbrook", "--yes")
    assert placed.returncode == 0, placed.stderr
    text = (work.plan / "accounts/millbrook.toml").read_text()
    assert 'name = "größe.example"\nkind = "addon"\nroot = "groesse"' in text
    assert 'database = { name = "groesse"' in text
    assert "größe.example/" in work.run("map").stdout
    assert work.run("where", "größe.example").stdout.startswith("größe.example/ (xn--gre-6ka8i.example/)\n")
