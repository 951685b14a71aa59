"""Generated plans: a clean one has nothing to find, and the first way out of a finding is one."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable

from hypothesis import assume, event, given, settings
from hypothesis import strategies as st

from conftest import TODAY, Work, examples
from kettlepost.core.errors import PlanError
from kettlepost.core.layout import PlanLayout, join
from kettlepost.core.names import Folder
from kettlepost.core.plan import changed_text
from kettlepost.core.rules import Finding, check, rules
from kettlepost.core.rules.cross_account import AllAccounts
from kettlepost.core.rules.evaluation import check_account
from kettlepost.core.survey import (
    FoundApplication,
    FoundDatabase,
    FoundFolder,
    Survey,
)
from kettlepost.workspace.plan_folder import read_plan
from messes import LOOSE, laid, messes, some, table


def everything(layout: PlanLayout) -> Iterable[Finding]:
    """Findings before any is folded into another."""
    accounts = [check_account(here) for here in layout.accounts.values()]
    sources = {here.account.source.name: here.account.source for here in layout.accounts.values()}
    whole = AllAccounts([account.summary for account in accounts], sources.__getitem__)
    yield from (found for account in accounts for found in account.findings)
    yield from (found for rule in rules() for found in rule.found_across(whole))


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
        changes = one.ways_out[0].changes
        assert one.ways_out
        assert one.parties
        if not changes:
            continue
        event(one.rule)
        changed = {name: changed_text(text, [c for c in changes if c.account == name]) for name, text in texts.items()}
        relaid = laid(work, changed, found)
        after = check(relaid, TODAY).findings if one.rule == "stale-accept" else list(everything(relaid))
        told = f"{one.place}: {one.ways_out[0]}\n{texts}\n{changed}"
        assert sum(other.place == one.place for other in after) < (before[one.place] or 1), told
        new = [other for other in after if other.severity == "stop" and other.place[1:] not in known]
        assert not new, f"{told}\nbrings {[(other.place, other.title) for other in new]}"


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
        www = draw(some([None, "both", "bare", "www"])) if kind != "subdomain" else None
        tables.append(table("domain", name=name, kind=kind, root=f"sites/d{n}", www=www, https=draw(st.booleans())))
        if draw(st.booleans()):
            tables.append(table("domain", name=f"alias{n}.example", kind="alias", of=name))
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
    '[package.roomy]\n[[application]]\nid = "quillmoor"\nall_of = ["quill.php"]\nfront_file = "index.php"\n'
    'folders = ["moor"]\nanswers_below = true\n'
)
