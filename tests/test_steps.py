"""The closed set of steps: each is told of, has somebody who does it, and stands behind what it needs."""

from __future__ import annotations

from typing import Any, get_args, get_origin, get_type_hints

import msgspec
from hypothesis import given
from hypothesis import strategies as st

from kettlepost.core import steps as kinds
from kettlepost.core.messages import Words, say
from kettlepost.core.names import Folder, HostName
from kettlepost.core.plan import Database
from kettlepost.core.steps import (
    DAYS,
    CopyTables,
    DoneWhen,
    DropTables,
    DropUser,
    LookAgain,
    MakeDatabase,
    Question,
    Step,
    Wait,
    Who,
    databases_after,
    needs_of,
    survey_after,
)  # fmt: skip
from kettlepost.core.survey import FoundFolder, SeenDatabase, SeenDatabases, SeenLogin, SeenTables, Survey
from kettlepost.render.steps import step_details, step_records, step_words

KINDS = get_args(Step)
VALUES = {
    Folder: st.sampled_from([Folder("www"), Folder("www/b"), Folder("b"), Folder("")]),
    HostName: st.sampled_from([HostName("a.example"), HostName("b.a.example")]),
    Database: st.builds(Database, st.sampled_from(["m_a", "m_b"]), st.sampled_from(["", "qm_"])),
    Wait: st.just(DAYS),
    Question: st.sampled_from(Question),
    Words: st.sampled_from(["x.html", say("party/line", line=3)]),
    str: st.sampled_from(["x.html", "quillmoor"]),
    int: st.integers(0, 9),
    bool: st.booleans(),
}


def values_of(want: Any) -> st.SearchStrategy[Any] | None:
    """Values of what a field is said to hold; None for a field that is left as it is."""
    if get_origin(want) is tuple:
        return st.lists(VALUES[get_args(want)[0]], max_size=2).map(tuple)
    return next((made for of, made in VALUES.items() if of in (want, *get_args(want))), None)


def step_of(kind: type[Step]) -> st.SearchStrategy[Step]:
    """Steps of a kind, with all of its fields filled in."""
    hints = get_type_hints(kind)
    own = {name: hints[name] for name in kind.__struct_fields__}
    fields = {name: values_of(want) for name, want in own.items()} | {
        "values": st.just({"root": "b", "of": None}),
        "lines": st.just(('Redirect 301 "/a" "http://a.example"',)),
    }
    fields = {name: fields[name] for name in own}
    return st.builds(
        kind, **{name: made for name, made in fields.items() if made is not None} | {"account": st.just("m")}
    )


STEPS = st.lists(st.sampled_from(KINDS).flatmap(step_of), max_size=9)
PLACES = ("", "b", "www", "www/b")
SURVEY = Survey(1, "m", "", "", [FoundFolder(Folder(place), files=1, names=("x.html",)) for place in PLACES])


def test_every_kind_of_step_has_its_words_and_somebody_who_does_it() -> None:
    slugs = [kind.__struct_config__.tag for kind in KINDS]
    assert len(set(slugs)) == len(KINDS) == 83
    for kind in KINDS:
        assert (isinstance(kind.who, Who), isinstance(kind.seen, DoneWhen)) == (True, True), kind
        assert set(kind.__struct_fields__) <= set(get_type_hints(kind)), kind


@given(STEPS)
def test_any_steps_are_told_kept_and_ordered(steps: list[Step]) -> None:
    records = step_records(steps)
    assert [record["words"] for record in records] == list(map(step_words, steps))
    assert not [record for record in records if not record["words"] or "None" in record["words"]]
    assert all(value and "None" not in value for step in steps for _, value in step_details(step))
    raw = msgspec.json.encode(steps, enc_hook=str)
    hook = lambda kind, value: kind(value)  # noqa: E731
    assert msgspec.json.decode(raw, type=list[Step], dec_hook=hook) == steps
    for number, (step, needs) in enumerate(zip(steps, needs_of(steps), strict=True)):
        assert all(need < number for need in needs)
        assert sorted(set(needs)) == list(needs)
        before = [one for one in steps[:number] if not isinstance(one, kinds.Deletion)]
        if isinstance(step, kinds.DeleteFolder) and before and number and before[-1] is steps[number - 1]:
            assert needs  # nothing goes before what stands right before it
    survey_after(SURVEY, steps)
    assert SURVEY.folders[1].names == ("x.html",)


def test_a_folder_is_made_filled_and_led_to_before_the_old_one_goes() -> None:
    old, new, host = Folder("www/b"), Folder("b"), HostName("b.example")
    steps: list[Step] = [
        kinds.MakeFolder("m", new), kinds.CopyFolder("m", old, new), kinds.ChangeRoot("m", host, old, new),
        kinds.OpenPage("m", "b.example/"), kinds.DeleteFolder("m", old), kinds.CopyFolder("m", Folder("c"), Folder("d")),
    ]  # fmt: skip
    assert needs_of(steps) == [(), (0,), (1,), (2,), (3,), ()]
    assert {found.folder for found in survey_after(SURVEY, steps).folders} == {"", "b", "www", "d"}


def test_databases_are_seen_as_steps_leave_them() -> None:
    tables = [SeenTables("a_", 2, names=("a_x", "a_y")), SeenTables("b_", 1, names=("b_x",))]
    seen = SeenDatabases("m", "", "", databases=[SeenDatabase("one", tables=tables)], logins=[SeenLogin("u")])
    one, two = Database("one", "a_"), Database("two", "c_", "u")
    steps = [MakeDatabase("m", two), CopyTables("m", one, two), DropTables("m", Database("one", "b_"), False)]
    then = databases_after(seen, steps)
    assert [(base.name, [group.prefix for group in base.tables]) for base in then.databases] == [
        ("one", ["a_"]), ("two", ["c_"]),
    ]  # fmt: skip
    assert then.databases[1].tables[0].names == ("c_x", "c_y")
    assert then.logins == [SeenLogin("u", databases={"two": ["ALL PRIVILEGES"]})]
    gone = databases_after(then, [DropTables("m", one, True), DropUser("m", "u")])
    assert ([base.name for base in gone.databases], gone.logins) == (["two"], [])
    assert [base.name for base in seen.databases] == ["one"]
    assert databases_after(seen, [LookAgain("m")]) is seen


def test_a_control_file_that_was_removed_is_begun_anew() -> None:
    www = Folder("www")
    lines = [kinds.AddLines("m", www, ".htaccess", (line,)) for line in ("Options -Indexes", "Require all denied")]
    then = survey_after(SURVEY, [lines[0], kinds.DeleteFile("m", www, ".htaccess"), lines[1]])
    assert [one.lines for one in then.controls] == [["1 Require all denied"]]
    carried = kinds.CarryLines("m", www, ".htaccess", www, 0, 0)
    assert survey_after(SURVEY, [lines[1], carried, kinds.DeleteFolder("m", www), carried]).controls[0].lines == []
