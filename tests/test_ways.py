"""Generated plans: a clean one has nothing to find, and the first way out of a finding is one."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable
from pathlib import Path

from hypothesis import assume, event, given, settings
from hypothesis import strategies as st

from conftest import TODAY, Work, examples
from kettlepost.core.checking import check
from kettlepost.core.checking.evaluation import check_account
from kettlepost.core.errors import PlanError
from kettlepost.core.layout import PlanLayout, join
from kettlepost.core.names import Folder
from kettlepost.core.plan import changed_text
from kettlepost.core.rules import Finding, WayOut, found_in, rules
from kettlepost.core.rules.cross_account import AllAccounts
from kettlepost.core.steps import Accept, BesideFiles, survey_after
from kettlepost.core.survey import (
    FoundApplication,
    FoundDatabase,
    FoundFolder,
    Survey,
)
from kettlepost.core.trying.account import Outcome, TriedAccount
from kettlepost.core.trying.change import carried_out
from kettlepost.core.trying.ways import moved_along
from kettlepost.render.sentences import text
from kettlepost.workspace.plan_edits import move_root
from kettlepost.workspace.plan_folder import PlanFolder, read_plan
from kettlepost.workspace.surveys import store_survey
from messes import LOOSE, laid, messes, some, table


def everything(layout: PlanLayout) -> Iterable[Finding]:
    """Findings before any is folded into another."""
    accounts = [check_account(here) for here in layout.accounts.values()]
    sources = {here.account.source.name: here.account.source for here in layout.accounts.values()}
    whole = AllAccounts([account.summary for account in accounts], sources.__getitem__)
    yield from (found for account in accounts for found in account.findings)
    yield from (found for rule in rules() for found in rule.found_across(whole))


def followed(texts: dict[str, str], found: dict[str, Survey], way: WayOut) -> tuple[dict[str, str], dict[str, Survey]]:
    """Accounts and surveys once a way out was gone."""
    changed = {name: changed_text(text, [c for c in way.changes if c.account == name]) for name, text in texts.items()}
    seen = {name: survey_after(survey, [s for s in way.steps if s.account == name]) for name, survey in found.items()}
    return changed, seen


@settings(LOOSE, max_examples=examples(60))
@given(messes())
def test_the_first_way_out_ends_a_finding_and_brings_no_stop(
    work: Work, mess: tuple[dict[str, str], dict[str, Survey]]
) -> None:
    texts, found = mess
    try:
        layout = laid(work, texts, found)
    except PlanError:
        assume(False)
    before = Counter(one.place for one in everything(layout))
    known = {(rule, at) for _, rule, at in before}
    for one in check(layout, TODAY).findings:
        assert all(way.whole or way.stays or way.stops for way in one.ways_out), one
        changes, steps = one.ways_out[0].changes, one.ways_out[0].steps
        assert one.ways_out
        assert one.parties
        if not changes and not any(not isinstance(step, BesideFiles) for step in steps):
            continue
        event(one.rule)
        changed, seen = followed(texts, found, one.ways_out[0])
        relaid = laid(work, changed, seen)
        after = check(relaid, TODAY).findings if one.rule == "stale-accept" else list(everything(relaid))
        told = f"{one.place}: {one.ways_out[0]}\n{texts}\n{changed}"
        accepts = any(isinstance(step, Accept) for step in steps)
        assert accepts or sum(other.place == one.place for other in after) < (before[one.place] or 1), told
        old = known | set(moved_along(known, one.ways_out[:1], layout.accounts))
        new = [other for other in after if other.severity == "stop" and other.place[1:] not in old]
        if one.ways_out[0].as_it_is:
            continue
        assert not new, f"{told}\nbrings {[(other.place, other.title) for other in new]}"


def differences(outcome: Outcome, about: Finding) -> tuple[set[tuple[str, str]], bool]:
    """What comes, of what may stop something or is a risk, and whether what it is about stays."""
    before, after = (
        {(one.rule, one.at) for one in found if one.severity != "note"} for found in (outcome.before, outcome.found)
    )
    was, now = (sum(one.place == about.place for one in found) for found in (outcome.before, outcome.found))
    return after - before, now >= was


@settings(LOOSE, max_examples=examples(60))
@given(messes())
def test_the_part_that_a_way_out_touches_tells_what_the_whole_account_does(
    work: Work, mess: tuple[dict[str, str], dict[str, Survey]]
) -> None:
    texts, surveys = mess
    try:
        layout = laid(work, texts, surveys)
    except PlanError:
        assume(False)
    for account in layout.accounts.values():
        findings = found_in(account)
        tried = TriedAccount(account, findings)
        for one, way in ((found, way) for found in findings for way in found.ways_out):
            changes = way.changes or any(not isinstance(step, BesideFiles) for step in way.steps)
            change = carried_out(account, way.changes, way.steps, one.records) if changes else None
            if change is not None:
                asked = (tried.outcome_in_part, tried.outcome_in_all)
                part, whole = (differences(ask(change, {one.rule}), one) for ask in asked)
                assert part == whole, f"{one.rule} {one.at}: {text(way.words)}\n{texts}\n{surveys}"


@settings(LOOSE, max_examples=examples(40))
@given(messes())
def test_following_ways_out_comes_to_an_end(work: Work, mess: tuple[dict[str, str], dict[str, Survey]]) -> None:
    texts, found = mess
    try:
        layout = laid(work, texts, found)
    except PlanError:
        assume(False)
    passed = set()
    for _ in range(60):
        state = repr((sorted(texts.items()), sorted(found.items())))
        assert state not in passed, f"a circle:\n{mess}"
        passed.add(state)
        todo = next((one for one in check(layout, TODAY).findings if one.ways_out[0].changes), None)
        if todo is None:
            return
        texts, found = followed(texts, found, todo.ways_out[0])
        layout = laid(work, texts, found)
    raise AssertionError(f"following goes on:\n{mess}")


@settings(LOOSE, max_examples=examples(40))
@given(messes())
def test_a_root_that_a_way_out_gives_is_taken_by_the_command(
    work: Work, mess: tuple[dict[str, str], dict[str, Survey]]
) -> None:
    texts, found = mess
    try:
        layout = laid(work, texts, found)
    except PlanError:
        assume(False)
    for survey in found.values():
        store_survey(work.plan, survey)
    for path in (work.plan / "surveys").glob("*.json"):
        if path.stem not in found:
            path.unlink()
    for one in check(layout, TODAY).findings:
        changes = [change for change in one.ways_out[0].changes if change.number is not None]
        moves = [change for change in changes if change.table == "domain" and change.values.get("root") is not None]
        if one.rule not in ("shared-root", "nested-root", "root-is-home") or len(moves) != 1:
            continue
        change = moves[0]
        domain = layout.accounts[change.account].account.domains[change.number]
        if sum(other.name == domain.name for known in layout.plan.accounts for other in known.domains) > 1:
            continue  # a command takes a name, and this one is declared twice
        event(one.rule)
        prepared = move_root(PlanFolder(work.plan), domain.name, str(change.values["root"]), change.account)
        assert not prepared.stops, f"{one.place}\n{mess}"


@st.composite
def clean(draw: st.DrawFn) -> tuple[str, Survey | None]:
    """An account in order, written so that nothing can be wrong with it."""
    number = draw(st.integers(1, 6))
    tables, survey = (
        [],
        Survey(1, "one", "2026-11-23T06:00:00Z", "here", [FoundFolder(Folder("")), FoundFolder(Folder("sites"))]),
    )
    tables.append(
        table(
            "certificate", covers=[f"d{n}.example" for n in range(number)] + [f"*.d{n}.example" for n in range(number)]
        )
    )
    for n in range(number):
        kind = "primary" if n == 0 else draw(some(["addon", "subdomain"]))
        name = f"s{n}.d0.example" if kind == "subdomain" else f"d{n}.example"
        www = draw(some(["apart", "both", "bare", "www"])) if kind != "subdomain" else None
        tables.append(table("domain", name=name, kind=kind, root=f"sites/d{n}", www=www, https=draw(st.booleans())))
        if draw(st.booleans()):
            tables.append(table("domain", name=f"alias{n}.example", kind="alias", of=name, www="both"))
        root, state = Folder(f"sites/d{n}"), draw(some(["live", "planned"]))
        host = f"www.{name}" if www == "www" else name
        tables.append(
            table(
                "installation", application="quillmoor", address=host, state=state, admin_user="tillkeeper",
                contact=f"keeper@{name}", database={"name": f"m_{n}", "prefix": f"q{n}x_"},
            )
        )  # fmt: skip
        if state == "live":
            survey.folders.append(FoundFolder(root, 3, names=("index.php", "quill.php"), index=("index.php",)))
            survey.applications.append(
                FoundApplication(root, "quillmoor", ["quill.php"], database=FoundDatabase(f"m_{n}", prefix=f"q{n}x_"))
            )
        else:
            survey.folders.append(FoundFolder(root))
    head = '[account]\nname = "one"\npackage = "copper"\ndatabase_prefix = "m_"\n'
    return head + "".join(tables), draw(some([survey, None]))


@settings(LOOSE, max_examples=examples(60))
@given(clean())
def test_a_plan_in_order_has_nothing_to_find(work: Work, drawn: tuple[str, Survey | None]) -> None:
    text, survey = drawn
    text = text.replace('package = "copper"', 'package = "roomy"')
    work.account(text, "one", settings=_ROOMY)
    found = check(join(read_plan(work.plan), {"one": survey} if survey else {}), TODAY).findings
    assert not found, [(one.place, one.title) for one in found]


_ROOMY = (
    '[settings]\nkept_current = { application = "fixes" }\ncopies = { each = "day", keep = 7, at = "elsewhere" }\n'
    '[package.roomy]\n[[application]]\nid = "quillmoor"\nall_of = ["quill.php"]\nfront_file = "index.php"\n'
    'folders = ["moor"]\nanswers_below = true\n'
)


def test_a_move_is_read_in_where_a_server_was_and_brings_no_difference(work: Work, tmp_path: Path) -> None:
    """What is kept of a server is of before its host changes: trying knows that, and the way ends in reading it in."""
    hosts = {"a.example": "www", "c.example": "www/choir"}
    pages = {f"{folder}/index.html": f"<h1>{host}</h1> what is to be read there" for host, folder in hosts.items()}

    def read_in() -> str:
        (tmp_path / "a.conf").write_text("".join(
            f"<VirtualHost *:80>\nServerName {host}\nDocumentRoot {work.homes}/millbrook/{folder}\n</VirtualHost>\n"
            for host, folder in hosts.items()
        ))  # fmt: skip
        return work.run("import", str(tmp_path / "a.conf"), "--yes").stdout

    head = f'[account]\nname = "millbrook"\nhome = "{work.homes}/millbrook"\n\n'
    domains = [table("domain", name=host, kind=kind, root=hosts[host], www="apart")
               for host, kind in (("a.example", "primary"), ("c.example", "addon"))]  # fmt: skip
    work.account(head + "".join(domains)).there(pages)
    read_in()
    (found,) = [one for one in work.json("check")["findings"] if one["rule"] == "nested-root"]
    way = found["ways_out"][0]
    assert (way["brings"], way["stops"], way["changes"][0]["values"]["root"]) == ([], [], "c")
    assert [step["do"] for step in way["steps"]][-1] == "read-in"
    assert work.run("domain", "root", "c.example", "c", "--yes").returncode == 0
    hosts["c.example"] = "c"
    read_in()  # before its files are there, somebody is to be told
    assert "server-differs" in work.rules()
    work.there({"c/index.html": pages.pop("www/choir/index.html")})
    (work.homes / "millbrook/www/choir/index.html").unlink()
    work.survey()
    assert "plan and sources agree" in read_in()
    assert "server-differs" not in work.rules()
    assert work.run("confirm", "c.example", "--yes").returncode == 0
    assert not work.rules() & {"server-differs", "nested-root", "root-to-move"}
