"""What is said: facts in the core, and one sentence for each kind of them beside the others of its family."""

from __future__ import annotations

import ast
from collections import Counter
from collections.abc import Iterator
from functools import cache
from pathlib import Path
from string import Formatter

import msgspec
import pytest

import kettlepost
from kettlepost.core.answering import Detail
from kettlepost.core.messages import Message, Words, joined, say, series
from kettlepost.render.sentences import FAMILIES, SENTENCES, text

PACKAGE = Path(kettlepost.__file__).parent
CORE = PACKAGE / "core"
APART = {
    "remedies.py": "the kinds of remedies", "words.py": "how numbers and times are written",
    "exchange/column_names.py": "what tables call their columns",
    "databases/statements.py": "SQL", "databases/copy_statements.py": "SQL", "databases/copy_postgresql.py": "SQL",
    "exchange/apache.py": "its configuration", "exchange/nginx.py": "its configuration", "exchange/zone.py": "zones",
    "plan/reader.py": "errors", "plan/validation.py": "errors", "placing/batch.py": "errors",
    "placing/ownership.py": "errors", "placing/lifecycle.py": "errors",
    "webserver/arguments.py": "errors of a server", "webserver/sections.py": "errors of a server",
    "webserver/vocabulary.py": "errors of a server", "names/nearest.py": "a part of errors",
    "survey/control_files.py": "kinds, as surveys hold them", "survey/sites.py": "kinds, as surveys hold them",
    "survey/placeholders.py": "evidence, as surveys hold it", "survey/copies.py": "names of folders",
    "answering/facts.py": "names of facts", "work/sheet.py": "names of fields", "rules/acceptances.py": "errors",
    "rules/leftovers.py": "what is recorded of a clearing", "webserver/patterns.py": "errors of Python's",
    "webserver/rewriter.py": "what browsers send", "quoting/php.py": "a line of a program", "clearing/live.py": "an error, and what is recorded of a clearing",
}  # fmt: skip
"""Where texts of several words are no sentences about what was found."""
NOT_SAID = {
    "MB of disk", "by hand", "not set up", "another name of {}", "the configuration of {} in {}", "control file",
    "shuts out search engines", "adds a file to every page", "redirects some paths", "rewrites some paths",
    "redirects to https", "turns rewriting on", "turns rewriting off", "sets PHP's settings", "sets the PHP version",
    "holds the users of a password prompt", "phpinfo page", "database tool", "private key", "configuration backup",
    "environment file", "empty folder", "but files", "left over", "placeholder page", "ALL PRIVILEGES",
    "database server", "to be written", "RewriteEngine Off", "RewriteEngine On", "Require all granted", "Require all denied",
    "FallbackResource disabled", "AuthType Basic",
    "not ours", "below a file", "mail folder", "configuration with a database", "database dump", "path alias",
    "path rule ({})", "reserved path", "in use", "not seen", "front file", "old address", "root as long as it has not moved", "not read",
    "empty domain", "other account", "not preferred", "work and waiting", "the client", "the host", "the registrar",
    "capitals in the name", "differs by Unicode form only", "differs by case only", "letters beyond ASCII in the name",
    "space in the name", "unprintable name", "never set up", "put aside as a copy", "the file is empty", "version of ",
    "all granted", "all denied", "AuthConfig or FileInfo", "AuthConfig or Limit", "CREATE TEMPORARY TABLES",
    "LOCK TABLES", "gzip, deflate, br, zstd", "directives and records", "names in folders",
    "bool | int | str | Message | tuple[str | Message, ...] | None",
}  # fmt: skip
"""Names of kinds, and lines of configurations, that are of several words."""


def sources() -> Iterator[Path]:
    """What may say something: what computes, and what the plan folder is looked after by."""
    for floor in ("core", "workspace"):
        yield from (PACKAGE / floor).rglob("*.py")


@cache
def parsed(path: Path) -> ast.Module:
    return ast.parse(path.read_text("utf-8"))


def said() -> Iterator[tuple[str, frozenset[str]]]:
    """Each call in the core by which something is said: the slug of its sentence, and the names of its facts."""
    for path in sources():
        for node in ast.walk(parsed(path)):
            if isinstance(node, ast.Call) and getattr(node.func, "id", "") == "say":
                names = {word.arg for word in node.keywords if word.arg is not None}
                names |= {"application", "address"} if len(names) < len(node.keywords) else set()  # `named`
                for slug in ast.walk(node.args[0]):
                    if isinstance(slug, ast.Constant):
                        yield slug.value, frozenset(names)


def fields(sentence: str) -> frozenset[str]:
    return frozenset(name for _, name, _, _ in Formatter().parse(sentence) if name)


def test_each_thing_that_is_said_has_its_sentence_with_just_its_facts() -> None:
    slugs = Counter(slug for family in FAMILIES for slug in family.SENTENCES)
    assert [slug for slug, number in slugs.items() if number > 1] == []
    wrong = [(slug, names) for slug, names in said() if names != fields(SENTENCES.get(slug, "{?}"))]
    # of a slug that is chosen beforehand the names of its facts stand at the call
    assert [one for one in wrong if one[0] in SENTENCES or "/" in one[0]] == []
    assert [one for one in Detail if set(one.facts) != fields(SENTENCES[one.value])] == []
    chosen = {node.value for path in sources() for node in ast.walk(parsed(path))
              if isinstance(node, ast.Constant) and isinstance(node.value, str)}  # fmt: skip
    assert sorted(set(SENTENCES) - chosen) == []


def of_errors(function: ast.FunctionDef) -> Iterator[ast.AST]:
    """What a function says of what is wrong: all of one that is there for it, else what it names and then raises."""
    raised = [node for node in ast.walk(function) if isinstance(node, ast.Raise)]
    names = {node.id for one in raised for node in ast.walk(one) if isinstance(node, ast.Name)}
    for node in ast.walk(function):
        if isinstance(node, ast.Assign) and any(isinstance(to, ast.Name) and to.id in names for to in node.targets):
            yield from ast.walk(node.value)
    if function.name.endswith("_fault"):
        yield from ast.walk(function)


def english(tree: ast.Module) -> Iterator[str]:
    """Texts of two words and more that are neither documentation nor what an error says."""
    apart: set[ast.AST] = set()
    for node in ast.walk(tree):
        name = getattr(node.func, "id", "") if isinstance(node, ast.Call) else ""
        if isinstance(node, ast.Raise) or name.endswith(("Error", "Fault")):
            apart.update(ast.walk(node))
        elif isinstance(node, ast.FunctionDef):
            apart.update(of_errors(node))
        elif isinstance(node, ast.Expr):
            apart.add(node.value)
        elif isinstance(node, ast.JoinedStr):
            apart.update(node.values)
        elif isinstance(node, ast.Attribute) and node.attr == "split":
            apart.add(node.value)  # words that are looked for
    for node in ast.walk(tree):
        words = ""
        if isinstance(node, ast.JoinedStr):
            words = "".join(part.value if isinstance(part, ast.Constant) else "{}" for part in node.values)
        elif isinstance(node, ast.Constant) and isinstance(node.value, str):
            words = node.value
        if node not in apart and sum(word.strip(",;:.").isalpha() for word in words.split()) > 1:
            yield words


def test_nothing_but_errors_is_worded_where_it_is_computed() -> None:
    made = {}
    for path in sorted(CORE.rglob("*.py")):
        place = str(path.relative_to(CORE))
        own = {one for one in english(parsed(path)) if "\n" not in one} - NOT_SAID
        if bool(own) != (place in APART):
            made[place] = own
    assert made == {}


@pytest.mark.parametrize(
    ("words", "shown"),
    [
        ("as it is", "as it is"),
        (say("root-missing/title", root="wwww", domains=["a.example"]), "wwww, the root of a.example, does not exist"),
        (joined("", None, "a", say("party/line", line=1_200)), "aline 1200"),
        (joined(joined(say("party/line", line=1)), ""), "line 1"),
        ("; " + say("party/line", line=1) + ".", "; line 1."),
        (series(["a", say("party/line", line=2), "c"], 2), "a, line 2 and 1 more"),
    ],
)
def test_facts_are_written_as_their_sentence_says(words: Words, shown: str) -> None:
    assert text(words) == shown
    kept = msgspec.json.decode(msgspec.json.encode(words), type=str | Message)
    assert (text(kept), hash(words) == hash(words)) == (shown, True)


def test_a_message_gets_into_no_text_but_by_whoever_shows_it() -> None:
    with pytest.raises(TypeError):
        f"{say('party/line', line=1)}"
