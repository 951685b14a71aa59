"""The name with www: asked for where a domain is declared, missed where nobody declares it."""

from __future__ import annotations

import re

import pytest

from conftest import DEMO_SETTINGS, Work, release
from kettlepost.render.sentences import text
from messes import table

BASE = table("domain", name="a.example", kind="primary", root="www", www="both")
OTHER = table("domain", name="b.example", kind="addon", root="b")


def missing(work: Work) -> list[tuple[str, str | None, str]]:
    return [(one.at, one.severity, text(one.why)) for one in work.check().findings if one.rule == "www-missing"]


def test_it_is_missed_where_nobody_declares_it_and_a_risk_where_people_are_sent(work: Work) -> None:
    work.account(BASE + OTHER, settings=DEMO_SETTINGS)
    assert not missing(work)
    told = work.run("check")
    assert "Nobody says whether b.example answers with www. Say it," in told.stderr
    assert told.stderr.endswith("\nkettlepost domain www both b.example\n")
    conf = f"ServerRoot /etc/server\n<VirtualHost *:80>\nServerName b.example\nDocumentRoot {work.homes}/millbrook/b\n</VirtualHost>\n"
    source = work.plan.parent / "server.conf"
    source.write_text(conf)
    assert work.run("import", str(source), "--account", "millbrook", "--yes").returncode == 0
    without = "nobody declares it, its server has the name without www alone, and people type it all the same"
    seen = work.json("check", "--only", "www-missing")["findings"]
    assert [(one["at"], one["severity"], one["why"]) for one in seen] == [("b.example", "note", without)]
    assert work.run("undo", "--yes").returncode == 0
    work.there({"b/.htaccess": "RewriteEngine On\nRewriteRule ^ https://www.b.example%{REQUEST_URI} [R]\n"})
    assert missing(work) == [("b.example", "risk", "nobody declares it, and b/.htaccess sends people there")]
    (work.homes / "millbrook/b/.htaccess").unlink()
    config = (
        "<?php\ndefine( 'WP_HOME', 'https://www.b.example' );\ndefine('DB_NAME', 'x');\ndefine('DB_PASSWORD', 'p');\n"
    )
    core = release("wordpress", "b")
    work.there({"b/wp-config.php": config, **core})
    assert work.stored().applications[0].address == "www.b.example/"
    assert missing(work)[0][2] == "nobody declares it, and the configuration of wordpress in b sends people there"
    sent = table("domain", name="c.example", kind="addon", redirect_to="www.b.example", www="apart")
    work.account(BASE + OTHER + sent, settings=DEMO_SETTINGS)
    assert [(at, severity) for at, severity, _ in missing(work)] == [("b.example", "risk")]
    to_itself = table("domain", name="b.example", kind="addon", redirect_to="www.b.example")
    work.account(BASE + to_itself, settings=DEMO_SETTINGS)
    (found,) = [one for one in work.check().findings if one.rule == "www-missing"]
    assert [(text(way.words), way.changes) for way in found.ways_out] == [
        ("declare www.b.example with a root, as b.example only sends visitors on to it", ())
    ]  # with www = "both" it would go round in circles
    work.account(BASE + OTHER + sent, settings=DEMO_SETTINGS)
    for declared in ("www.b.example", "*.b.example"):
        work.account(table("domain", name=declared, kind="subdomain", root="x"), "other", settings=DEMO_SETTINGS)
        assert not missing(work)
    work.account("", "other", settings=DEMO_SETTINGS.replace("[settings]", '[settings]\nwww = "apart"'))
    assert not missing(work)


def test_many_are_told_as_one_and_mended_by_one_command(work: Work) -> None:
    domains = BASE + "".join(table("domain", name=f"d{n}.example", kind="addon", root=f"d{n}") for n in range(5))
    work.account(domains, settings=DEMO_SETTINGS)
    assert work.json("check")["unsaid_www"] == [f"d{n}.example" for n in range(5)]
    sending = "".join(table("domain", name=f"c{n}.example", kind="addon", redirect_to=f"www.d{n}.example", www="apart")
                      for n in range(5))  # fmt: skip
    work.account(domains + sending, settings=DEMO_SETTINGS)
    assert len(missing(work)) == 5
    (found,) = work.json("check", "--only", "www-missing")["findings"]
    assert found["title"] == "5 domains lead nowhere with www: d0.example, d1.example, d2.example and 2 more"
    assert found["ways_out"][0]["words"].endswith("say that both answer: kettlepost domain www both millbrook")
    assert work.run("domain", "www", "bare", "d3.example", "--yes").returncode == 0
    assert work.run("domain", "www", "both", "millbrook", "--yes").returncode == 0
    assert not missing(work)
    assert work.json("where", "www.d3.example/x")["sent_to"] == "d3.example/x"
    assert work.json("where", "www.d4.example")["folder"] == "d4"
    told = work.run("map").stdout
    assert re.search(r"d3\.example/ +d3 +addon; www redirects here ", told)
    assert re.search(r"d4\.example/ \(and www\) +d4 +addon ", told)
    assert "not surveyed" in told
    rows = {row["address"]: row["goes"] for row in work.json("map")["accounts"]["millbrook"]}
    assert (rows["www.d3.example/"], rows["www.d4.example/"]) == ("d3.example/", None)


@pytest.mark.parametrize(
    ("setting", "option", "written"),
    [("", (), "both"), ('www = "bare"', (), "bare"), ('www = "bare"', ("--www", "www"), "www"),
     ('www = "apart"', (), None), ("", ("--www", "apart"), "apart")],
)  # fmt: skip
def test_a_new_domain_says_what_was_asked_or_what_the_settings_say(
    work: Work, setting: str, option: tuple[str, ...], written: str | None
) -> None:
    settings = DEMO_SETTINGS.replace("[settings]", f"[settings]\n{setting}")
    for words in (("domain", "add", "n.example"), ("place", "quillmoor", "n.example")):
        work.account(BASE, settings=settings)
        done = work.run(*words, "--account", "millbrook", *option, "--yes")
        assert done.returncode == 0, done.stderr
        domain = work.layout().accounts["millbrook"].account.domains[-1]
        assert (domain.name, domain.www) == ("n.example", written)
    work.account(BASE, settings=settings)
    assert work.run("domain", "add", "sub.a.example", "--yes").returncode == 0
    assert work.layout().accounts["millbrook"].account.domains[-1].www is None


def test_a_name_that_begins_with_www_is_asked_back(work: Work) -> None:
    work.account(BASE, settings=DEMO_SETTINGS)
    new = work.run("domain", "add", "www.n.example", "--account", "millbrook", "--yes")
    assert (new.returncode, new.stderr) == (
        2,
        "kettlepost: is n.example meant? Declared by its own name it answers at www.n.example as well; for "
        "www.n.example alone give --www apart; declare it: kettlepost domain add n.example\n",
    )
    known = work.run("domain", "add", "www.a.example", "--yes")
    assert known.returncode == 2
    assert "kettlepost domain www both a.example" in known.stderr or "already" in known.stderr
    assert (
        work.run("domain", "add", "www.n.example", "--account", "millbrook", "--www", "apart", "--yes").returncode == 0
    )
    late = work.run("place", "quillmoor", "a.example/x", "--www", "bare")
    assert (late.returncode, "kettlepost domain www bare a.example" in late.stderr) == (2, True)
