"""Generated plans: a clean one has nothing to find, and the first way out of a finding is one."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable

from hypothesis import HealthCheck, assume, event, given, settings
from hypothesis import strategies as st

from conftest import TODAY, Work
from kettlepost.core.errors import PlanError
from kettlepost.core.layout import Layout, join
from kettlepost.core.names import Folder
from kettlepost.core.plan import changed_text, read_plan
from kettlepost.core.rules import Finding, check, rules
from kettlepost.core.rules.checking import check_account
from kettlepost.core.rules.whole import Whole
from kettlepost.core.survey import (
    Effect,
    FoundApplication,
    FoundControl,
    FoundDatabase,
    FoundFolder,
    FoundLink,
    FoundPlaceholder,
    Survey,
)

LOOSE = settings(suppress_health_check=list(HealthCheck), deadline=None)
APPLICATIONS = ["barrowshop", "quillmoor", "ticketgrove", "wordpress"]
HOSTS = ["a.example", "b.example", "www.a.example", "s.a.example", "*.a.example", "aa.example", "t.s.b.example"]
ROOTS = ["www", "www/b", "www/b/c", "sites/a", "sites/b", "Www", "x y", ".", "link", "out"]
PATHS = ["", "/shop", "/Shop", "/shop/goods", "/moor", "/cgi-bin", "/new", "/new/news"]
some = st.sampled_from


def table(kind_of: str, /, **keys: object) -> str:
    lines = [f"{key} = {_written(value)}\n" for key, value in keys.items() if value is not None]
    return f"[[{kind_of}]]\n{''.join(lines)}\n"


def _written(value: object) -> str:
    if isinstance(value, bool):
        return str(value).lower()
    if isinstance(value, dict):
        return "{ " + ", ".join(f"{key} = {_written(one)}" for key, one in value.items()) + " }"
    return "[" + ", ".join(map(_written, value)) + "]" if isinstance(value, list) else f'"{value}"'


@st.composite
def domains(draw: st.DrawFn) -> str:
    name, kind = draw(some(HOSTS)), draw(some(["primary", "addon", "addon", "subdomain", "alias", "sent"]))
    https, points = draw(some([None, None, True])), draw(some([None, None, False]))
    if kind == "alias":
        return table("domain", name=name, kind=kind, of=draw(some([*HOSTS[:2], "aaa.example"])), https=https)
    if kind == "sent":
        return table("domain", name=name, kind="addon", redirect_to=draw(some(HOSTS[:4])))
    www = draw(some([None, None, "both", "bare", "www", "apart"])) if "*" not in name else None
    also = draw(st.lists(some(["also.a.example", "b.example"]), max_size=1))
    return table(
        "domain", name=name, kind=kind, root=draw(some(ROOTS)), www=www, also=also, https=https, points_here=points
    )


@st.composite
def installations(draw: st.DrawFn) -> str:
    base = {"name": draw(some(["m_one", "m_two", "M_one", "two words", "m_" + "x" * 70]))}
    base["prefix"] = draw(some(["wp_", "a_", "a_b_", "", "q1_"]))
    return table(
        "installation",
        application=draw(some(APPLICATIONS)),
        address=draw(some([*HOSTS[:4], "lost.example"])) + draw(some(PATHS)),
        state=draw(some(["live", "planned", "planned", "retired"])),
        folder=draw(some([None, None, None, "www/apart", "www"])),
        database=draw(some([None, base])),
        admin_user=draw(some([None, "admin", "tillkeeper"])),
        contact=draw(some([None, "keeper@b.example", "keeper@elsewhere.test"])),
        staging_of=draw(some([None, None, None, "a.example", "a.example/shop"])),
        licensed_to=draw(some([None, None, "a.example/shop"])),
    )


@st.composite
def surveys(draw: st.DrawFn, account: str) -> Survey | None:
    if draw(some([True, False, False])):
        return None
    places = [Folder(one) for one in ("www", "www/b", "www/shop", "sites/a", "sites/old", "www/new")]
    found = draw(st.dictionaries(some(places), some(["empty", *APPLICATIONS, "page", "soon", "control"]), max_size=5))
    survey = Survey(1, account, "2026-11-23T06:00:00Z", "here", [FoundFolder(Folder(""))])
    survey.links = [FoundLink(Folder(""), "link", "www/b"), FoundLink(Folder(""), "out", "/srv")]
    known = {above for place in found for above in place.above() if above} - found.keys()
    survey.folders += [FoundFolder(place) for place in known]
    for place, what in found.items():
        here = FoundFolder(place)
        if what in APPLICATIONS:
            here.files, here.index, here.names = 9, ("index.php",), ("index.php",)
            base = draw(some([None, FoundDatabase("m_one", prefix="a_"), FoundDatabase("m_old")]))
            survey.applications.append(
                FoundApplication(place, what, ["index.php"], database=base, leftovers=["setup.php"])
            )
        elif what != "empty":
            name = {"page": "index.html", "soon": "index.html", "control": ".htaccess"}[what]
            here.files, here.names = 1, (name,)
            here.index, here.control = ((), (name,)) if what == "control" else ((name,), ())
        if what == "soon":
            survey.placeholders.append(FoundPlaceholder(place, "index.html", "coming-soon", "says so"))
        if what == "control":
            survey.controls.append(FoundControl(place, ".htaccess", [Effect("asks for a password", 1)]))
        survey.folders.append(here)
    return survey


@st.composite
def messes(draw: st.DrawFn) -> tuple[dict[str, str], dict[str, Survey]]:
    """Account files in which much may be wrong, and surveys that fit them or not."""
    texts, found = {}, {}
    for name in draw(some([["one"], ["one", "two"]])):
        head = f'[account]\nname = "{name}"\npackage = "{draw(some(["tin", "copper"]))}"\ndatabase_prefix = "m_"\n'
        head += draw(some(["", 'addon_also = "{label}.{primary}"\n']))
        tables = draw(st.lists(domains(), max_size=4)) + draw(st.lists(installations(), max_size=4))
        tables += draw(
            st.lists(
                some(
                    [
                        table("certificate", covers=["a.example"]),
                        table("accept", finding="nested-root", at="www/b", because="x"),
                    ]
                ),
                max_size=1,
            )
        )
        texts[name] = head + "\n" + "".join(tables)
        survey = draw(surveys(name))
        if survey is not None:
            found[name] = survey
    return texts, found


def laid(work: Work, texts: dict[str, str], found: dict[str, Survey]) -> Layout:
    for name, text in texts.items():
        work.account(text, name)
    for path in (work.plan / "accounts").iterdir():
        if path.stem not in texts:
            path.unlink()
    return join(read_plan(work.plan), found)


def everything(layout: Layout) -> Iterable[Finding]:
    """Findings before any is folded into another."""
    accounts = [check_account(here) for here in layout.accounts.values()]
    whole = Whole(layout.plan.folder, [account.summary for account in accounts])
    yield from (found for account in accounts for found in account.findings)
    yield from (found for rule in rules() for found in rule.found_across(whole))


def place(found: Finding) -> tuple[str, str, str]:
    return found.account, found.rule, found.at


@settings(LOOSE, max_examples=60)
@given(messes())
def test_the_first_way_out_ends_a_finding_and_brings_no_stop(
    work: Work, mess: tuple[dict[str, str], dict[str, Survey]]
) -> None:
    texts, found = mess
    try:
        layout = laid(work, texts, found)
    except PlanError:
        assume(False)
    before = Counter(place(one) for one in everything(layout))
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
        told = f"{place(one)}: {one.ways_out[0]}\n{texts}\n{changed}"
        assert sum(place(other) == place(one) for other in after) < (before[place(one)] or 1), told
        new = [other for other in after if other.severity == "stop" and place(other)[1:] not in known]
        assert not new, f"{told}\nbrings {[(place(other), other.title) for other in new]}"


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


@settings(LOOSE, max_examples=60)
@given(clean())
def test_a_plan_in_order_has_nothing_to_find(work: Work, drawn: tuple[str, Survey | None]) -> None:
    text, survey = drawn
    text = text.replace('package = "copper"', 'package = "roomy"')
    work.account(text, "one", settings=_ROOMY)
    found = check(join(read_plan(work.plan), {"one": survey} if survey else {}), TODAY).findings
    assert not found, [(place(one), one.title) for one in found]


_ROOMY = (
    '[package.roomy]\n[[application]]\nid = "quillmoor"\nall_of = ["quill.php"]\nfront_file = "index.php"\n'
    'folders = ["moor"]\nanswers_below = true\n'
)
