"""The three gates: what comes in is bounded, what goes out shows as itself, and no secret is shown or stored."""

from __future__ import annotations

import csv
import gzip
import io
import json
import random
import re
import tarfile
import unicodedata
import zipfile
from pathlib import Path
from xml.etree import ElementTree

import markdown_it
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from conftest import DEMO_SETTINGS, Work, examples, run, taken
from kettlepost.core.budget import Limits
from kettlepost.core.errors import KettlepostError, OutsideError
from kettlepost.core.quoting import html as markup
from kettlepost.core.quoting import markdown
from kettlepost.core.quoting.csv import marked
from kettlepost.core.secrets import MASK, masked, masked_address
from kettlepost.core.survey import decode_survey, encode_survey
from kettlepost.render import gate
from kettlepost.sources import open_source
from kettlepost.workspace.plan_folder import read_plan
from messes import LOOSE
from test_rules import BASE, domain, installation

# -- in


MET: list[tuple[dict[str, int], str, list[str]]] = [
    ({"entries": 5}, "holds more than 5 files and folders", ["find", "ls", "tar.gz", "zip"]),
    ({"folders": 3}, "holds more than 3 folders", ["find", "ls", "tar.gz", "zip"]),
    ({"depth": 100}, "folders deep", ["find", "ls", "tar.gz", "zip"]),
    ({"line": 300}, "a line of more than 300 bytes", ["find", "ls", "zip"]),  # a tape has no lines
    ({"bytes": 100}, "more than 100 bytes", ["find", "ls", "tar.gz"]),  # a zip's directory is bounded on its own
]


@pytest.mark.parametrize(
    ("limits", "told", "kind"), [(limits, told, kind) for limits, told, kinds in MET for kind in kinds]
)
def test_a_limit_that_is_met_ends_with_a_clear_word(
    work: Work, tmp_path: Path, limits: dict[str, int], told: str, kind: str
) -> None:
    paths = [f"d{n}/f{n}" for n in range(9)] + ["/".join(["x"] * 250) + "/f"]
    source = tmp_path / f"home.{kind}"
    if kind == "find":
        source.write_text("".join(f"f 1 1 ./{path}\0\0" for path in paths))
    elif kind == "ls":
        source.write_text("".join(f"./{path[:-2]}:\ntotal 4\n-rw-r--r-- 1 a a 5 Jan  1 2026 f\n\n" for path in paths))
    elif kind == "zip":
        with zipfile.ZipFile(source, "w") as archive:
            for path in paths:
                archive.writestr(path, "x")
    else:
        with tarfile.open(source, "w:gz") as tape:
            for path in paths:
                tape.addfile(tarfile.TarInfo(path))
    plan = read_plan(work.account(BASE).plan)
    assert taken(plan, "millbrook", open_source(str(source))).files == 10
    with pytest.raises(OutsideError, match=re.escape(told)) as caught:
        taken(plan, "millbrook", open_source(str(source), limits=Limits(**limits)))
    assert str(caught.value).startswith(str(source))


def test_what_unpacks_without_end_is_stopped(work: Work, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    raw = io.BytesIO()
    with tarfile.open(fileobj=raw, mode="w") as archive:
        info = tarfile.TarInfo("www/zeros")
        info.size = 300 << 20
        archive.addfile(info, io.BytesIO(bytes(300 << 20)))
    bomb = tmp_path / "bomb.tar.xz"
    bomb.write_bytes(__import__("lzma").compress(raw.getvalue(), preset=0))
    plan = read_plan(work.account(BASE).plan)
    with pytest.raises(OutsideError, match="unpacks to more than 1,200 times its size"):
        taken(plan, "millbrook", open_source(str(bomb), limits=Limits(free=1 << 20)))
    with pytest.raises(OutsideError, match="unpacks to more than 1,048,576 bytes"):
        taken(plan, "millbrook", open_source(str(bomb), limits=Limits(unpacked=1 << 20)))
    clock = iter(range(0, 10**9, 100))
    monkeypatch.setattr("time.monotonic", lambda: next(clock))
    with pytest.raises(OutsideError, match="nothing came of it for 50 seconds"):
        taken(plan, "millbrook", open_source(str(bomb), limits=Limits(patience=50.0)))


def test_what_takes_long_and_goes_on_is_no_silence(work: Work, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    plan = read_plan(work.account(BASE).plan)
    with zipfile.ZipFile(tmp_path / "home.zip", "w", zipfile.ZIP_LZMA) as archive:
        for n in range(60):
            archive.writestr(f"www/d{n}/index.html", "x" * n)
    with tarfile.open(tmp_path / "home.tar.xz", "w:xz") as tape:
        for n in range(60):
            tape.addfile(tarfile.TarInfo(f"www/d{n}/index.html"))
    for name in ("home.zip", "home.tar.xz"):
        clock = iter(range(10**9))
        monkeypatch.setattr("time.monotonic", lambda clock=clock: next(clock))
        limits = Limits(patience=20.0)
        assert taken(plan, "millbrook", open_source(str(tmp_path / name), limits=limits)).files == 60


@settings(LOOSE, max_examples=examples(60))
@given(st.data())
def test_whatever_a_listing_or_an_archive_holds_its_survey_can_be_read(work: Work, data: st.DataObject) -> None:
    """Names of any bytes and any length, sizes and times of any number: what was stored is read as it was."""
    plan = read_plan(work.account(BASE).plan)
    chance = random.Random(data.draw(st.integers(0, 10**6)))
    name = st.binary(min_size=1, max_size=6).map(lambda raw: raw.replace(b"\0", b"1").replace(b"/", b"|"))
    part = st.one_of(
        name, st.sampled_from([b"www", b"index.html", b"x" * 250, b"\\x41", b"\\", b"..", b".", b"a\\\\b"])
    )
    drawn = data.draw(st.lists(st.lists(part, min_size=1, max_size=20), max_size=6))
    paths = list(dict.fromkeys(b"/".join(parts) for parts in drawn))
    numbers = [0, 1, 5000, 2**31, 10**17, 10**18 - 1]
    source = work.plan.parent / data.draw(st.sampled_from(["l.txt", "h.tar", "h.tar.gz", "h.zip"]))
    if source.suffix == ".txt":
        kinds = [chance.choice(b"fdlp") for _ in paths]
        lines = [
            b"%c %d %d ./%s\0%s\0"
            % (kind, chance.choice(numbers), chance.choice([-5, *numbers]), path, b"to \x1b" * (kind == 108))
            for kind, path in zip(kinds, paths, strict=True)
        ]
        source.write_bytes(b"d 1 1 .\0\0" + b"".join(lines))
    elif source.suffix == ".zip":
        with zipfile.ZipFile(source, "w") as archive:
            for path in paths:
                archive.writestr(zipfile.ZipInfo(path.decode("latin-1")), b"coming soon?token=geese")
    else:
        raw = io.BytesIO()
        with tarfile.open(fileobj=raw, mode="w", format=tarfile.GNU_FORMAT) as tape:
            for path in paths:
                info = tarfile.TarInfo(path.decode("utf-8", "surrogateescape"))
                info.type = chance.choice([tarfile.REGTYPE, tarfile.DIRTYPE, tarfile.SYMTYPE, tarfile.FIFOTYPE])
                info.mtime, info.linkname = chance.choice([-5, *numbers]), "http://u:p@h/"
                tape.addfile(info)
        source.write_bytes(gzip.compress(raw.getvalue()) if source.suffix == ".gz" else raw.getvalue())
    try:
        found = taken(plan, "millbrook", open_source(str(source), inside="."))
    except KettlepostError as error:
        assert str(error).isprintable()
        return
    stored = encode_survey(found)
    assert decode_survey(stored, "s.json", "millbrook") == found
    assert b"geese" not in stored
    assert b":p@" not in stored


# -- out

EVIL = "\x1b[31mx\x07\u202eevil\u2066\x9b0m\x7f"


def is_clean(text: str) -> bool:
    bad = [c for c in text if c != "\n" and c != "\r" and (unicodedata.category(c) in ("Cc", "Cf") and c != "\t")]
    return not bad


@pytest.fixture
def hostile(work: Work) -> Work:
    """A plan in which whatever a person may write holds what no terminal should be given."""
    evil = "".join(f"\\u{ord(c):04x}" for c in EVIL)
    settings_ = DEMO_SETTINGS.replace('"Barrowshop"', f'"{evil}"')
    assert settings_ != DEMO_SETTINGS
    head = (
        f'[account]\nname = "millbrook"\nhome = "/h/{evil}"\nclient = "{evil}"\ndatabase_prefix = "{evil}"\n'
        f'package = "copper"\n\n'
    )
    base = f'database = {{ name = "{evil}", prefix = "{evil}", user = "{evil}", server = "{evil}" }}\n'
    more = f'{base}admin_user = "{evil}"\ncontact = "{evil}@a.example"\nversion = "{evil}"'
    accept = f'[[accept]]\nfinding = "nested-root"\nat = "{evil}"\nbecause = "{evil}"\n'
    tables = (
        BASE
        + domain("b.example", "www")
        + installation("a.example/x", more=more)
        + installation("a.example/y", more=more)
    )
    work.account(head + tables + accept, settings=settings_)
    tree = {f"www/{EVIL}.sql": "", "www/x/shop.php": "", "www/x/barrow/core.php": f"BARROW_VERSION = '{EVIL}'"}
    return work.there({**tree, "www/.htaccess": f"Redirect / https://{EVIL}/\n", f"{EVIL}/index.html": "coming soon"})


def test_nothing_that_a_terminal_obeys_gets_out_of_any_command_in_any_format(hostile: Work) -> None:
    commands = [
        "check", "map", "map --by folder --every", "where a.example/x", "where --folder www", "domain list", "installs",
        "survey --show millbrook", "apps", "apps barrowshop", "weigh barrowshop a.example --why", "place --as 1 --show",
        "domain add c.test --account millbrook --yes", "retire a.example/x --show", "undo --show",
        "survey millbrook --from HOME", "survey --diff millbrook", "explain shared-root", "work", "work --next",
        "sheet --all", "sheet a.example/x --for client", "database list", "database script", "database script --fields",
        "password titles",
    ]  # fmt: skip
    evil = json.dumps([{"name": EVIL, "tables": [{"prefix": EVIL, "number": 2, "names": [EVIL]}]}])
    login = json.dumps([{"name": EVIL, "databases": {EVIL: [EVIL]}}])
    kept = f'{{"account":"millbrook","taken":"x","source":"{EVIL[1:4]}","is_whole":true,"databases":{evil},"logins":{login}}}'
    (hostile.plan / "surveys/millbrook.databases.json").write_text(kept)
    (hostile.plan / "history.jsonl").write_text(
        json.dumps({"at": EVIL, "account": "millbrook", "site": "a.example/x", "event": EVIL, "by": EVIL}) + "\n{\n"
    )
    ids = [step["id"] for step in hostile.json("work")["steps"]]
    said = "".join(
        f'[[done]]\nid = "{own}"\nat = "x"\nby = {json.dumps(EVIL)}\nnote = {json.dumps(EVIL)}\n' for own in ids
    )
    (hostile.plan / "work.toml").write_text(said)
    for words in commands:
        split = [word.replace("HOME", str(hostile.homes / "millbrook")) for word in words.split()]
        done = hostile.run(*split) if split[0] != "explain" else run(*split)
        assert done.returncode in (0, 1), done.stderr
        assert is_clean(done.stdout + done.stderr), words
        if split[0] not in ("explain",) and "--yes" not in split:
            told = hostile.run(*split, "--format", "json").stdout
            assert is_clean(told), words
            json.loads(told)
    for form in ("csv", "markdown", "sarif", "junit"):
        assert is_clean(hostile.run("check", "--format", form).stdout), form
    for words in ("domain list", "installs", "weigh barrowshop a.example"):
        for form in ("csv", "markdown"):
            assert is_clean(hostile.run(*words.split(), "--format", form).stdout), (words, form)
    for words in ("work --format csv", "work --format markdown", "work --format ics", "sheet --all --format html",
                  "sheet --all --format markdown", "password titles --format csv"):  # fmt: skip
        told = hostile.run(*words.split())
        assert (told.returncode, is_clean(told.stdout)) == (0, True), (words, told.stderr)
    for wrong in (
        "work --done " + EVIL,
        "work " + EVIL,
        "sheet " + EVIL,
        "database script " + EVIL,
        "password make " + EVIL,
    ):
        assert is_clean(hostile.run(*wrong.split(" ", 1)[0:1], *wrong.split(" ")[1:]).stderr), wrong
    ElementTree.fromstring(hostile.run("check", "--format", "junit").stdout)
    assert is_clean(hostile.run("where", "-", input=f"a.example/{EVIL}\n{EVIL}\n").stdout)
    assert is_clean(hostile.run("where", EVIL).stderr + hostile.run("check", "--only", EVIL).stderr)


TEXTS = st.text(
    st.sampled_from([*"ab`*_[]()<>|#~!&\\=+-@$.1 \t'\"/:", "\n", "\r", "\x1b", "\u202e", "\x85", "é", "＝"]),
    max_size=14,
)


@settings(max_examples=examples(400), deadline=None)
@given(TEXTS)
@example("`a``b")
@example("1. x")
@example("&lt;b&gt;")
def test_whatever_a_text_holds_its_markup_stays_whole(text: str) -> None:
    shown = gate.plain(text)
    assert is_clean(shown)
    assert gate.plain(shown) == shown  # what went through stays as it is
    reader = markdown_it.MarkdownIt("commonmark").enable(["table", "strikethrough"])
    (paragraph,) = [token for token in reader.parse(f"x {markdown.text(text)} x") if token.type == "inline"]
    kinds = {token.type for token in paragraph.children or ()}
    assert kinds <= {"text", "text_special", "softbreak"}, kinds
    if shown.strip():
        html = reader.render(markdown.text(text))
        assert html.startswith("<p>"), html
        assert html.count("<") == 2
    (span,) = [
        token
        for token in reader.parseInline(f"a {markdown.code(text)} b")[0].children or ()
        if token.type == "code_inline"
    ]
    assert span.content.strip() == shown.strip()
    shut = markup.text(text)
    element = ElementTree.fromstring(f'<p a="{shut}">{shut}</p>')
    assert (element.text or "") == shown
    assert (element.get("a") or "") == shown
    (row,) = csv.reader(io.StringIO(f'"{marked(text).replace(chr(34), chr(34) * 2)}"'))
    assert row[0].lstrip()[:1] not in {*"=+-@", "＝"}


# -- secrets

WORD = st.text(
    st.characters(min_codepoint=33, max_codepoint=126, exclude_characters="*"), min_size=4, max_size=12
).filter(
    lambda word: not word.startswith("//")  # which without a scheme before it makes the user's name one
)


@settings(max_examples=examples(300), deadline=None)
@given(WORD, st.sampled_from(["sftp", "ftps", "https", "sfpt", "mysql"]))
@example("pa/ss#wo?rd[x", "sftp")
@example("a@b:c@d", "ftp")
def test_no_password_of_an_address_is_told(secret: str, scheme: str) -> None:
    address = f"{scheme}://keeper:{secret}@host.example:22x/path"
    for text in (masked(f"see {address} there"), masked_address(address), masked_address(address.partition("://")[2])):
        assert f":{secret}@" not in text
        assert MASK in text
        assert masked(text) == text
    with pytest.raises(KettlepostError) as caught:
        open_source(address)
    with pytest.raises(KettlepostError) as other:
        open_source(address.replace(f":{secret}@", ":another-one@"))
    assert str(caught.value) == str(other.value)


@pytest.mark.parametrize(
    ("text", "left"),
    [
        ("https://a.example/x?token=abc&page=2", f"https://a.example/x?token={MASK}&page=2"),
        ("?api_key=abc;x=1", f"?api_key={MASK};x=1"),
        ('password = "two words" here', f"password = {MASK} here"),
        ("accounts/x.toml:5: name: wrong", "accounts/x.toml:5: name: wrong"),
        ("sftp://user@host:22/path: connection refused", "sftp://user@host:22/path: connection refused"),
        ("write contact = web@a.example", "write contact = web@a.example"),
        ("monkey=banana", "monkey=banana"),
    ],
)
def test_what_looks_like_a_secret_is_masked_and_nothing_else(text: str, left: str) -> None:
    assert masked(text) == left


@pytest.mark.parametrize(
    "address",
    ["sftp://u:geese/a@h/x", "sftp://u:geese#a@h/x", "sftp://u:geese?a@h/x", "sftp://u:gee[se@h/x", "sfpt://u:geese@h/x",
     "sftp://u:geese@h:99999/x", "ftp://u:geese@h:port/x", "u:geese@h/x", "sftp://u:gee se@h"],
)  # fmt: skip
def test_a_password_in_an_address_is_shown_in_no_error_and_stored_nowhere(work: Work, address: str) -> None:
    work.account(BASE + domain("b.example", "b"))
    for words in (["survey", "millbrook", "--from", address], ["where", address], ["domain", "add", address]):
        done = work.run(*words)
        assert done.returncode == 2
        assert not re.search("geese|gee", done.stderr + done.stdout), done.stderr
    (work.plan / "accounts/other.toml").write_text(f'[account]\nname = "other"\nsurvey_from = "{address}"\n')
    assert "geese" not in work.run("survey", "--all").stderr
    shown = work.run("domain", "add", "y.test", "--account", "other", "--show").stdout
    assert ("survey_from" in shown, bool(re.search("geese|gee", shown))) == (True, False)
    assert work.run("domain", "root", "b.example", "c", "--because", "x", "--yes").returncode == 2
    assert (
        work.run("domain", "add", "x.test", "--account", "millbrook", "--root", "x?token=geese", "--yes").returncode
        == 0
    )
    written = list((work.plan / ".kettlepost").rglob("*.json"))
    assert written
    assert not [path for path in written if "token=geese" in json.loads(path.read_text())["command"]]
