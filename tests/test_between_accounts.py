"""A domain that goes from one account to another: both right in between, nothing left, nothing lost, and back."""

from __future__ import annotations

from typing import Any

from conftest import Work, deployed
from messes import table
from wishes import tree_of

HERE, THERE = "192.0.2.10", "198.51.100.20"


def accounts(work: Work, machine: str = THERE, **keys: Any) -> Work:
    """A domain with a nested one of somebody else's, what is installed at it, and an account that has room."""
    for name, ip, tables in (
        ("saltcote", machine, table("domain", name="z.example", kind="primary", root="public")),
        (
            "millbrook", HERE,
            table("domain", name="a.example", kind="addon", root="www", www="both", **keys)
            + table("domain", name="b.example", kind="alias", of="a.example")
            + table("domain", name="choir.example", kind="primary", root="www/choir")
            + table("installation", application="quillmoor", address="a.example/news", contact="o@b.example",
                    database={"name": "pages", "prefix": "qm_", "user": "pages"}),
        ),
    ):  # fmt: skip
        home = work.homes / name
        head = f'[account]\nname = "{name}"\nhome = "{home}"\nsurvey_from = "{home}"\nip_addresses = ["{ip}"]\n'
        work.account(head + tables, name)
    files = {"www/index.html": "Trains", "www/choir/index.html": "Sing", "www/img/a.png": "p"}
    work.there(files | deployed("www/news", "pages", "qm_")).survey()
    return work.there({"public/index.html": "Lights"}, "saltcote")


def states(work: Work) -> list[tuple[str, str, str]]:
    both = work.layout().accounts
    return [
        (name, one.state, str(getattr(one, "name", getattr(one, "address", ""))))
        for name in ("millbrook", "saltcote")
        for one in (*both[name].account.domains, *both[name].account.installations)
        if str(getattr(one, "name", getattr(one, "address", ""))).startswith(("a.example", "b.example"))
    ]


def test_a_domain_comes_with_its_files_and_data_and_is_retired_where_it_was(work: Work) -> None:
    accounts(work, https=True, mail=True)
    bring = ["move", "a.example", "--to-account", "saltcote", "--by", "files"]
    plans = {name: work.plan / f"accounts/{name}.toml" for name in ("millbrook", "saltcote")}
    texts = {name: path.read_text() for name, path in plans.items()}
    for name, was, is_ in (
        ("saltcote", f'["{THERE}"]', "[]"),  # on which machine that is nobody has said
        ("millbrook", 'application = "quillmoor"', 'application = "quillmoor"\nstate = "retired"'),
        ("millbrook", 'kind = "addon"\nroot = "www"', 'kind = "addon"\nroot = "later"\nroot_now = "www"'),
    ):
        plans[name].write_text(texts[name].replace(was, is_))
        refused = work.run(*bring, "--yes")
        assert refused.returncode == 2, (is_, refused.stdout)
        plans[name].write_text(texts[name])
    for asked in (["b.example"], ["nowhere.example"], ["www.a.example"], ["z.example"]):
        assert work.run("move", *asked, "--to-account", "saltcote").returncode == 2, asked
    shown = work.run("move", "a.example", "--to-account", "saltcote")
    assert "what others have in www stays there: www/choir" in " ".join(shown.stdout.split())
    entered = work.run(*bring, "--yes")
    assert entered.returncode == 0, entered.stderr
    assert "addresses, once" not in entered.stdout  # nobody gets anything else
    told = {(one["rule"], one["severity"]) for one in work.json("check")["findings"]}
    assert ("between-accounts", "note") in told
    assert not [one for one in told if one[1] == "stop"], told
    where = {when: work.json("where", "a.example", "--when", when) for when in ("now", "planned")}
    assert [where[when]["account"] for when in ("now", "planned")] == ["millbrook", "saltcote"]
    assert where["planned"]["certainty"] == "depends"
    written = {name: path.read_text() for name, path in plans.items()}
    for name, was, is_, says in (  # what only one of the two says
        ("millbrook", 'account_next = "saltcote"\n', "", "does not say so"),
        ("millbrook", 'account_next = "saltcote"', 'account_next = "elsewhere"', "none of the plan"),
        ("saltcote", 'account_now = "millbrook"\n', "", "does not say so"),
        ("saltcote", 'address = "a.example/news"', 'address = "z.example/news"', "would be left"),
        ("saltcote", f'["{THERE}"]', "[]", "which machine"),
    ):
        plans[name].write_text(written[name].replace(was, is_))
        stops = [one for one in work.json("check")["findings"] if one["rule"] == "between-accounts"]
        assert any(says in one["title"] and one["severity"] == "stop" for one in stops), (is_, stops)
        plans[name].write_text(written[name])
    steps = work.json("work", "a.example")["steps"]
    order = [one["step"]["do"] for one in steps]
    wanted = ["set-time-to-live", "await-forgotten", "get-certificate", "bring-rest", "freeze", "bring-folder",
              "bring-tables", "write-settings", "see-ahead", "change-records", "await-name", "see-page",
              "set-time-to-live"]  # fmt: skip
    assert [one for one in order if one in wanted] == wanted
    assert {one["account"] for one in steps} == {"saltcote"}
    copy = next(one for one in steps if one["step"]["do"] == "bring-folder")
    assert (copy["step"]["stays"], copy["state"]) == (["www/choir"], "blocked")
    records = next(one["step"] for one in steps if one["step"]["do"] == "change-records")
    assert (records["records"], records["names"]) == ([f"A {THERE}"], ["a.example", "www.a.example", "b.example"])
    before = tree_of(work.homes / "millbrook"), tree_of(work.homes / "saltcote")
    numbers = list[str]()
    for _ in range(2):  # and once more, when it was taken back
        for one in work.json("work", "a.example")["steps"][: order.index("bring-folder")]:
            if one["state"] != "done":
                work.run("work", "--done", one["id"], "--yes")
        carried = work.run("work", "--carry-out", copy["id"], "--yes")
        assert carried.returncode == 0, carried.stderr
        numbers.append(carried.stderr.partition("--take-back ")[2].partition("'")[0])
        new = work.homes / "saltcote/a.example"
        new = new if new.exists() else work.homes / "saltcote/a"
        assert {k: v for k, v in tree_of(new).items() if k} == {
            k.removeprefix("www/"): v for k, v in before[0].items() if k.startswith("www/") and "choir" not in k
        }
        if len(numbers) == 1:
            assert work.run("work", "--take-back", numbers[0], "--yes").returncode == 0
            there = tree_of(work.homes / "saltcote")
            assert {k: v for k, v in there.items() if "set-aside" not in k} == before[1]
    assert work.run("confirm", "a.example", "--yes").returncode == 2  # it works with the old tables
    config = new / "news/moor/settings.php"
    config.write_text(config.read_text().replace("'pages'", f"'{base(work)}'"))
    work.survey("saltcote")
    confirmed = work.run("confirm", "a.example", "--yes")
    assert confirmed.returncode == 0, confirmed.stderr
    assert "lost" not in confirmed.stdout.partition("addresses, once")[2].partition("\n")[0], confirmed.stdout
    assert states(work) == [
        ("millbrook", "retired", "a.example"), ("millbrook", "retired", "b.example"),
        ("millbrook", "retired", "a.example/news"), ("saltcote", "live", "a.example"),
        ("saltcote", "live", "b.example"), ("saltcote", "live", "a.example/news"),
    ]  # fmt: skip
    assert [work.json("where", "a.example", "--when", when)["account"] for when in where] == ["saltcote", "saltcote"]
    gone = [one for one in work.json("work", "millbrook")["steps"] if one["site"].startswith("a.example")]
    assert {"keep-folder", "drop-tables", "remove-host", "forget"} <= {one["step"]["do"] for one in gone}
    left = {one["rule"]: one["at"] for one in work.json("check")["findings"]}
    assert left["retired-still-there"] == "www/news"  # and not that nothing is left of it
    assert work.run("work", "--take-back", numbers[1], "--yes").returncode == 2  # it is in use
    assert tree_of(work.homes / "millbrook") == before[0]
    while any(path.read_text() != texts[name] for name, path in plans.items()):
        assert work.run("undo", "--yes").returncode == 0


def base(work: Work) -> str:
    """The database that it is to have."""
    [own] = [one for one in work.layout().accounts["saltcote"].account.installations if one.database is not None]
    assert own.database is not None
    return own.database.name


def test_on_one_machine_the_host_gives_the_name_over_once_all_lies_there(work: Work) -> None:
    accounts(work, HERE, https=True)
    assert work.run("move", "a.example", "--to-account", "saltcote", "--by", "files", "--yes").returncode == 0
    order = [one["step"]["do"] for one in work.json("work", "a.example")["steps"]]
    wanted = ["freeze", "bring-folder", "bring-tables", "write-settings"] + ["remove-host"] * 2
    wanted += ["add-host"] * 2 + ["get-certificate"]
    assert [one for one in order if one in wanted] == wanted
    assert {"change-records", "set-time-to-live", "see-ahead"}.isdisjoint(order)
