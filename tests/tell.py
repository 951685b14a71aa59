"""What the program finds in many small plans, and all that it tells of one account: `make told` writes it down anew.

`tests/test_told.py` compares it with what is written down, so that whatever a change says
otherwise is seen, and read before it is taken: so few lines that somebody does.
"""

from __future__ import annotations

import io
import json
import re
import sys
import tempfile
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path
from typing import Any

import msgspec

import kettlepost
from conftest import DEMO_SETTINGS, SETTINGS, TODAY, Work
from kettlepost.core.answering import by_address, by_folder, domain_rows, install_rows, where
from kettlepost.core.checking import check
from kettlepost.core.layout import AccountLayout, PlanLayout, inventory
from kettlepost.core.names import Address
from kettlepost.core.placing import Wish, weigh
from kettlepost.core.rules import PRIMARY, find_rule, rules
from kettlepost.core.survey import (
    ExternalFacts,
    ObservedHost,
    SeenDatabase,
    SeenDatabases,
    SeenLogin,
    SeenTable,
    SeenWorld,
    encode_databases,
    encode_outside,
    encode_world,
    grouped,
)
from kettlepost.demo import ACCOUNTS, lay_out
from kettlepost.render import address_map, changes, surveys, tables, text, weighing
from kettlepost.render.results import AddressMap, ChangeShown, FolderMap, Register, SurveyStored, WeighingShown
from kettlepost.render.screen import Screen
from messes import scenario_of

TOLD = Path(__file__).parent / "told"
THERE = re.compile(r'# (there|link): (\S+)(?: = "(.*)")?')


def example(page: str, word: str) -> str:
    """The lines of an example, which stand indented between its word and the next section."""
    after = page.partition(f"\n{word}:\n")[2]
    return "\n".join(re.match(r"(?:\n|    .*\n)+", after)[0].split("\n    "))  # type: ignore[index]


def laid_out(work: Work, tables_: str, slug: str) -> dict[str, tuple[str, str]]:
    """Lay an example out as an account; gives the files and links it wants to be there."""
    whole = tables_ if 'kind = "primary"' in tables_ else f"{tables_}\n{PRIMARY}"
    tree = {path: (kind, words or "x") for kind, path, words in THERE.findall(tables_)}
    work.account(whole, settings=DEMO_SETTINGS if slug.startswith("www") else SETTINGS)
    for path, (kind, target) in tree.items():
        if kind == "link":
            (work.homes / "millbrook").mkdir(parents=True, exist_ok=True)
            (work.homes / "millbrook" / path).symlink_to(target)
    found = [
        SeenTable(base, name)
        for base, names in re.findall(r'# tables: (\S+) = "(.*)"', tables_)
        for name in names.split()
    ]
    named = re.findall(r"# tables: (\S+) =", tables_)
    if named:
        (work.plan / "surveys").mkdir(exist_ok=True)
        groups = grouped(found, re.findall(r'prefix = "(\w+)"', tables_))
        bases = [SeenDatabase(name, tables=groups.get(name, [])) for name in named]
        logins = [
            SeenLogin(
                name,
                "",
                {
                    base: (may or "ALL PRIVILEGES").split(",")
                    for base, _, may in (one.partition(":") for one in on.split())
                },
            )
            for name, on in re.findall(r'# login: (\S+) = "(.*)"', tables_)
        ]
        seen = SeenDatabases(
            "millbrook", "2026-11-23T06:00:00Z", "tables.txt", "mariadb", "", True, True, bases, logins
        )
        (work.plan / "surveys/millbrook.databases.json").write_bytes(encode_databases(seen))
    for host, root in re.findall(r'# seen: (\S+) = "(.*)"', tables_):
        (work.plan / "surveys").mkdir(exist_ok=True)
        seen = ExternalFacts("millbrook", "2026-11-23T06:00:00Z", [ObservedHost(host, root, "", "hosts.conf:3")])
        (work.plan / "surveys/millbrook.outside.json").write_bytes(encode_outside(seen))
    if tree:
        work.there({path: words.replace("\\n", "\n") for path, (kind, words) in tree.items() if kind == "there"})
    probed = re.findall(r"# probed: (\w+) = (\{.*\})", tables_)
    if probed:
        (work.plan / "surveys").mkdir(exist_ok=True)
        facts: dict[str, list[Any]] = {}
        for kind, written in probed:
            facts.setdefault(kind, []).append({"seen": "2026-11-23T06:00:00Z", **json.loads(written)})
        world = msgspec.convert({"account": "millbrook", "taken": "2026-11-23T06:00:00Z", **facts}, SeenWorld)
        (work.plan / "surveys/millbrook.probe.json").write_bytes(encode_world(world))
    return tree


def shown(*writers: Callable[[Screen], object]) -> str:
    out = io.StringIO()
    for write in writers:
        write(Screen(out))
    return "".join(f"{line.rstrip()}\n" for line in out.getvalue().splitlines())


READ = "harrowgate"
"""The account of the demo of which everything is told; of the others only what is found."""


def of_findings(layouts: PlanLayout) -> Iterator[Callable[[Screen], object]]:
    """What is wrong, and the ways out, each of which has steps."""
    checked = check(layouts, TODAY)
    ways = [way for found in checked.findings for way in found.ways_out]
    assert all(way.whole or way.stays or way.stops for way in ways), "a way out without steps"
    yield lambda screen: text.show_check(screen, checked)


def of_account(layouts: PlanLayout, name: str, layout: AccountLayout) -> Iterator[Callable[[Screen], object]]:
    """Everything there is to tell of an account without writing to it."""
    account = layout.account
    addresses = AddressMap(lambda _: account, {name: list(by_address(layouts, layout))})
    folders = FolderMap(lambda _: account, {name: by_folder(layouts, layout, every=True)})
    yield lambda screen: address_map.show_addresses(screen, addresses)
    yield lambda screen: text.show_folders(screen, folders)
    for kind, rows in (("domains", domain_rows(layouts, layout)), ("installations", install_rows(layout, {}))):
        register = Register(kind, kettlepost.REGISTERS[kind], list(rows))
        yield lambda screen, register=register: tables.show_register(screen, register)
    seen = inventory(layout)
    if seen is not None:
        seen.source = seen.taken = "..."
        for row in seen.rows:
            row.newest = 0
        yield lambda screen: surveys.show_inventory(screen, SurveyStored(account, seen))
    for domain in layout.account.domains:
        for when in ("now", "planned"):
            view = where(layouts, Address(domain.name), when)  # type: ignore[arg-type]
            yield lambda screen, view=view: text.show_where(screen, view)
    hosts = [domain.name for domain in layout.account.domains if domain.state != "retired"]
    for wish in (Wish("wordpress", hosts[0]), Wish("barrowshop", hosts[-1], "more", new_domain="new.test")):
        found = weigh(scenario_of(layouts), wish)
        yield lambda screen, found=found: weighing.show_weighing(screen, WeighingShown(found, True))


def of_changes(plan: Path) -> Iterator[Callable[[Screen], object]]:
    """What changes of the demo's plan would be."""
    opened = kettlepost.open_plan(plan)
    makers: Iterable[Callable[[], kettlepost.PreparedChange]] = (
        lambda: kettlepost.add_domain(opened, "choir.example", account="millbrook"),
        lambda: kettlepost.add_domain(opened, "news.lanternchoir.example", account="millbrook", live=True),
        lambda: kettlepost.add_domain(opened, "old.example", "alias", of="saltcotelight.example"),
        lambda: kettlepost.drop_domain(opened, "lanternchoir.example"),
        lambda: kettlepost.drop_domain(opened, "millbrookrail.example"),
        lambda: kettlepost.move_root(opened, "lanternchoir.example", "choir"),
        lambda: kettlepost.move_root(opened, "shop.saltcotelight.example", "www"),
        lambda: kettlepost.adopt(opened, READ),
        *(
            lambda row=row: kettlepost.retire(opened, row.address, row.account)
            for row in kettlepost.installations(opened)
            if row.account == READ
        ),
        lambda: kettlepost.place(opened, "barrowshop", "saltcotelight.example/goods"),
        lambda: kettlepost.place(opened, "wordpress", "pennywharf.example"),
        *(
            lambda move=move: kettlepost.move(opened, *move, today=TODAY)
            for move in (
                ("saltcotelight.example", "saltcotelight.example/light", "files"),
                ("saltcotelight.example", "saltcotelight.example/light", "root"),
                ("bookings.harrowgatecycles.example", "harrowgatecycles.example/bookings", "files"),
                ("pennywharf.example/programme", "pennywharf.example/seats", "done"),
            )
        ),
    )
    for make in makers:
        try:
            change = make()
        except kettlepost.InputError as error:
            message = f"refused: {error}"
            yield lambda screen, message=message: screen.line(message)
            continue
        yield lambda screen, change=change: changes.show_change(screen, ChangeShown(change, False))


NAMES = [*(rule.slug for rule in rules()), "demo", "changes"]


def page(name: str, folder: Path) -> str:
    """One page: that of a rule's bad example, or one of the two of the demo."""
    work = Work(folder)
    if name not in ("demo", "changes"):
        work.plan.mkdir(parents=True)
        laid_out(work, example(find_rule(name).text, "Bad"), name)
        return shown(*of_findings(work.layout()))
    work.homes = lay_out(folder).hosting
    for account in ACCOUNTS:
        work.survey(account)
    if name == "changes":
        return shown(*of_changes(work.plan))
    layouts = work.layout()
    return shown(*of_findings(layouts), *of_account(layouts, READ, layouts.accounts[READ]))


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as place:
        for name in NAMES:
            told = page(name, Path(place) / name)
            (TOLD / f"{name}.txt").write_text(told, "utf-8")
            sys.stdout.write(f"{name}: {told.count(chr(10))} lines\n")
