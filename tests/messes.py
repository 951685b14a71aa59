"""Generated plans in which much may be wrong, with surveys that fit them or not."""

from __future__ import annotations

from hypothesis import settings
from hypothesis import strategies as st

from conftest import DEMO_SETTINGS, TODAY, Work
from kettlepost.core.checking import check_account
from kettlepost.core.layout import PlanLayout, join
from kettlepost.core.names import Folder
from kettlepost.core.survey import (
    Effect,
    FoundApplication,
    FoundControl,
    FoundDatabase,
    FoundExposed,
    FoundFolder,
    FoundLink,
    FoundPlaceholder,
    Survey,
)
from kettlepost.core.trying import Scenario
from kettlepost.demo.grown import table
from kettlepost.workspace.plan_folder import read_plan

LOOSE = settings()
APPLICATIONS = ["barrowshop", "quillmoor", "ticketgrove", "wordpress"]
HOSTS = ["a.example", "b.example", "www.a.example", "s.a.example", "*.a.example", "aa.example", "t.s.b.example"]
ROOTS = ["www", "www/b", "www/b/c", "sites/a", "sites/b", "Www", "x y", ".", "link", "out"]
PATHS = ["", "/shop", "/Shop", "/shop/goods", "/moor", "/cgi-bin", "/new", "/new/news"]
MOVED = "".join(
    f'[[moved]]\nfrom = "a.example{old}"\nto = "{new}"\n'
    for old, new in (("/old", "a.example/shop"), ("/shop/page.html", "b.example/x"), ("/new", "a.example/old"))
)
"""Old addresses that are kept, one of which leads to another."""
some = st.sampled_from


@st.composite
def domains(draw: st.DrawFn) -> str:
    name, kind = draw(some(HOSTS)), draw(some(["primary", "addon", "addon", "subdomain", "alias", "sent"]))
    https, points = draw(some([None, None, True])), draw(some([None, None, False]))
    state = draw(some([None, None, None, None, "planned", "retired"]))
    if kind == "alias":
        return table(
            "domain", name=name, kind=kind, of=draw(some([*HOSTS[:2], "aaa.example"])), https=https, state=state
        )
    if kind == "sent":
        return table("domain", name=name, kind="addon", redirect_to=draw(some(HOSTS[:4])), state=state)
    www = draw(some([None, None, "both", "bare", "www", "apart"])) if "*" not in name else None
    also = draw(st.lists(some(["also.a.example", "b.example"]), max_size=1))
    root, now = draw(some(ROOTS)), draw(some([None, None, None, "was", "www/b"])) if state is None else None
    return table(
        "domain", name=name, kind=kind, root=root, www=www, also=also, https=https, points_here=points, state=state,
        root_now=now if now != root else None, protected=draw(some([None, None, True])),
    )  # fmt: skip


@st.composite
def installations(draw: st.DrawFn) -> str:
    base = {"name": draw(some(["m_one", "m_one", "m_two", "M_one", "two words", "m_" + "x" * 70]))}
    base["prefix"] = draw(some(["wp_", "a_", "a_b_", "", "q1_"]))
    state = draw(some(["live", "planned", "planned", "retired"]))
    moves = draw(some([None, None, None, "a.example/old", "a.example/new", "b.example"])) if state == "live" else None
    return table(
        "installation",
        application=draw(some(APPLICATIONS)),
        address=draw(some([*HOSTS[:4], "lost.example"])) + draw(some(PATHS)),
        state=state,
        folder=draw(some([None, None, None, "www/apart", "www"])),
        address_now=moves,
        folder_now=draw(some([None, None, "www/b/c"])) if moves is not None else None,
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
        if draw(some([True, False, False])):
            survey.exposed.append(FoundExposed(place, "dump.sql", "dump"))
        if what == "soon":
            survey.placeholders.append(FoundPlaceholder(place, "index.html", "coming-soon", "says so"))
        if what == "control":
            survey.controls.append(FoundControl(place, ".htaccess", [Effect("asks for a password", 1)]))
        survey.folders.append(here)
    survey.folders.sort(key=lambda one: one.folder.tree_key)  # as surveys are stored
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
                        MOVED,
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


def laid(work: Work, texts: dict[str, str], found: dict[str, Survey]) -> PlanLayout:
    for name, text in texts.items():
        work.account(text, name, DEMO_SETTINGS)
    for path in (work.plan / "accounts").iterdir():
        if path.stem not in texts:
            path.unlink()
    return join(read_plan(work.plan), found)


def scenario_of(layout: PlanLayout) -> Scenario:
    known = {here.name: check_account(here) for here in layout.accounts.values()}
    sources = {here.account.source.name: here.account.source for here in layout.accounts.values()}
    summaries = [one.summary for one in known.values()]
    return Scenario(
        layout.plan,
        summaries,
        TODAY,
        known.__getitem__,
        known.__getitem__,
        layout.accounts.__getitem__,
        sources.__getitem__,
    )
