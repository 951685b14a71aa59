"""Rewriting (mod_rewrite) in control files: rules as they are read, and merged from above."""

from __future__ import annotations

import re
from collections.abc import Iterable
from functools import lru_cache

from msgspec import Struct

from kettlepost.core.webserver.directives import Directive, split_first
from kettlepost.core.webserver.expressions import expression_fault
from kettlepost.core.webserver.patterns import PatternTrouble, compiled, is_no_pattern
from kettlepost.core.webserver.vocabulary import is_status, titled

_STATUS = {"permanent": 301, "temp": 302, "seeother": 303}


class RuleFault(Exception):
    """A line that a server refuses, so that all below it are answered with an error."""

    def __init__(self, line: int, text: str):
        super().__init__(text)
        self.line = line
        self.text = text


class RewriteCondition(Struct, frozen=True):
    """`RewriteCond`: what is tested, and against what."""

    line: int
    tested: str
    pattern: str
    negated: bool = False
    ignores_case: bool = False
    or_next: bool = False
    written: str = ""
    file: str = ""


class RewriteRule(Struct, frozen=True):
    """`RewriteRule`, with the conditions before it."""

    line: int
    written: str
    pattern: str
    negated: bool
    target: str
    conditions: tuple[RewriteCondition, ...]
    last: bool = False
    end: bool = False
    ignores_case: bool = False
    status: int | None = None
    forced: bool = False
    proxy: bool = False
    append: bool = False
    discard: bool = False
    query_last: bool = False
    not_sub: bool = False
    no_escape: bool = False
    unsafe_mark: bool = False
    chained: bool = False
    again: bool = False
    rounds: str = ""
    skip: int = 0
    escape_back: bool = False
    escapes_only: str = ""
    escapes_but: str = ""
    spaces_as_codes: bool = False
    controls_only: bool = False
    variables: tuple[str, ...] = ()
    drop_path_info: bool = False
    begins: str = ""
    handler: str = ""
    kind: str = ""
    passes: bool = False
    file: str = ""

    @property
    def redirects(self) -> bool:
        return self.status is not None and 300 <= self.status < 400


class RewriteRules(Struct, frozen=True):
    """The rewriting that holds at a place: whether it is on, for which folder, its rules in order with theirs."""

    folder: str
    on: bool = False
    base: str | None = None
    rules: tuple[tuple[str, RewriteRule], ...] = ()
    options: frozenset[str] = frozenset()


def read_rules(folder: str, lines: Iterable[Directive], above: RewriteRules | None) -> RewriteRules:
    """The rewriting lines of one control file, merged with what holds above. Raises RuleFault for what is refused."""
    on, base, options, rules = _read(tuple(lines))
    is_on = on if on is not None else above is not None and above.on
    own = RewriteRules(folder, is_on, base, tuple((folder, rule) for rule in rules), options)
    return own if above is None else _below(own, above)


@lru_cache(maxsize=1024)  # very many sites have the same few rules
def _read(lines: tuple[Directive, ...]) -> tuple[bool | None, str | None, frozenset[str], tuple[RewriteRule, ...]]:
    on: bool | None = None
    base, options = None, set[str]()
    rules: list[RewriteRule] = []
    conditions: list[RewriteCondition] = []
    for line in lines:
        if line.name == "rewriteengine":
            word = split_first(line.text)[0].lower()
            if word not in ("on", "off"):
                raise RuleFault(line.line, "RewriteEngine is On or Off")
            on = word == "on"
        elif line.name == "rewritebase":
            word = next(iter(line.words), "")
            if not word.startswith("/"):
                raise RuleFault(line.line, "RewriteBase begins with a slash")
            base = word if word.endswith("/") else word + "/"
        elif line.name == "rewriteoptions":
            options |= {word.lower() for word in line.text.split()}
        elif line.name == "rewritecond":
            conditions.append(_condition(line))
        elif line.name == "rewriterule":
            rules.append(_rule(line, tuple(conditions)))
            conditions = []
    return on, base, frozenset(options), tuple(rules)


def _below(own: RewriteRules, above: RewriteRules) -> RewriteRules:
    """Rules with what they take from those above: what is asked for here, or from there."""
    options = own.options or above.options
    down = above.options if "ignoreinherit" not in options else frozenset[str]()
    rules = own.rules
    if "inherit" in options or "inheritdown" in down:
        rules = (*own.rules, *above.rules)
    elif "inheritbefore" in options or "inheritdownbefore" in down:
        rules = (*above.rules, *own.rules)
    base = above.base if own.base is None and "mergebase" in options else own.base
    return RewriteRules(own.folder, own.on, base, rules, options)


def _condition(line: Directive) -> RewriteCondition:
    first, rest = _argument(line.text)
    second, third = _argument(rest)
    if first is None or second is None:
        raise RuleFault(line.line, "RewriteCond: bad argument line")
    flags = _flags(third, line)
    negated = second.startswith("!")
    pattern = second[1:] if negated else second
    ignores_case = or_next = False
    for name, _ in flags:
        if name in ("nc", "nocase"):
            ignores_case = True
        elif name in ("or", "ornext"):
            or_next = True
        elif name not in ("nv", "novary"):
            raise RuleFault(line.line, f"RewriteCond: unknown flag '{name}'")
    if first.lower() == "expr":
        if why := expression_fault(pattern):
            raise RuleFault(line.line, f"RewriteCond: {why}")
    elif not _is_test(pattern):
        _compiles(pattern, line, "RewriteCond")
    return RewriteCondition(line.line, first, pattern, negated, ignores_case, or_next, line.text.strip(), line.file)


def _is_test(pattern: str) -> bool:
    return bool(re.fullmatch(r"-[dfslhLxFU]|-(?:eq|ne|lt|le|gt|ge)-?\d*.*", pattern)) or pattern[:1] in ("<", ">", "=")


def _compiles(pattern: str, line: Directive, what: str) -> None:
    try:
        compiled(pattern)
    except PatternTrouble as error:
        if is_no_pattern(str(error)):
            raise RuleFault(line.line, f"{what}: cannot compile regular expression '{pattern}'") from None


def _rule(line: Directive, conditions: tuple[RewriteCondition, ...]) -> RewriteRule:
    first, rest = _argument(line.text)
    second, third = _argument(rest)
    if first is None or second is None:
        raise RuleFault(line.line, "RewriteRule: bad argument line")
    negated = first.startswith("!")
    pattern = first[1:] if negated else first
    _compiles(pattern, line, "RewriteRule")
    values: dict[str, object] = {"file": line.file} if line.file else {}
    variables: list[str] = []
    for name, value in _flags(third, line):
        _take_flag(name, value, values, variables, line)
    if variables:
        values["variables"] = tuple(variables)
    if not negated and not values.get("ignores_case"):
        values["begins"] = _literal(pattern)
    return RewriteRule(line.line, f"RewriteRule {line.text.strip()}", pattern, negated, second, conditions, **values)  # type: ignore[arg-type]


def _literal(pattern: str) -> str:
    """The text that all that a pattern fits begins with; empty where it does not tell."""
    match = re.match(r"\^((?:[A-Za-z0-9/_-]|\\[.-])*)(.?)", pattern)
    if match is None or "|" in pattern:
        return ""
    plain = match[1].replace("\\", "")
    return plain[:-1] if match[2] in ("?", "*", "{") else plain


_PLAIN_FLAGS: dict[str, dict[str, object]] = {
    "l": {"last": True}, "last": {"last": True}, "end": {"end": True, "last": True},
    "nc": {"ignores_case": True}, "nocase": {"ignores_case": True}, "f": {"status": 403}, "forbidden": {"status": 403},
    "g": {"status": 410}, "gone": {"status": 410}, "p": {"proxy": True}, "proxy": {"proxy": True},
    "qsa": {"append": True}, "qsappend": {"append": True}, "qsd": {"discard": True}, "qsdiscard": {"discard": True},
    "qsl": {"query_last": True}, "qslast": {"query_last": True}, "ns": {"not_sub": True}, "nosubreq": {"not_sub": True},
    "ne": {"no_escape": True}, "noescape": {"no_escape": True}, "c": {"chained": True}, "chain": {"chained": True},
    "n": {"again": True}, "next": {"again": True}, "b": {"escape_back": True}, "backrefescape": {"escape_back": True},
    "bne": {}, "pt": {"last": True, "passes": True},
    "passthrough": {"last": True, "passes": True},
    "dpi": {"drop_path_info": True}, "discardpath": {"drop_path_info": True},
    "bnp": {"spaces_as_codes": True}, "backrefnoplus": {"spaces_as_codes": True},
    "unsafeallow3f": {"unsafe_mark": True}, "unsafeprefixstat": {},
    "bctls": {"escape_back": True, "controls_only": True},
}  # fmt: skip


_WITH_VALUE = {
    "n": "rounds", "next": "rounds", "b": "escapes_only", "backrefescape": "escapes_only", "bne": "escapes_but",
}  # fmt: skip
"""What the value of a flag is that has one."""


def _take_flag(name: str, value: str, values: dict[str, object], variables: list[str], line: Directive) -> None:
    if name in ("r", "redirect"):
        if value.isdigit() and not is_status(int(value)):
            raise RuleFault(line.line, f"RewriteRule: invalid HTTP response code '{value}' for flag 'R'")
        values["forced"] = True
        values["status"] = _STATUS.get(value.lower(), int(value) if value.isdigit() else 302)
    elif name in ("e", "env"):
        variables.append(value)
    elif name in ("s", "skip"):
        values["skip"] = int(value) if value.isdigit() else 0
    elif name in ("t", "type", "h", "handler"):
        values["handler" if name[0] == "h" else "kind"] = value
    elif name in ("co", "cookie"):
        pass
    elif name in _PLAIN_FLAGS:
        values |= _PLAIN_FLAGS[name]
        if name in _WITH_VALUE:
            values[_WITH_VALUE[name]] = value
    else:
        raise RuleFault(line.line, f"RewriteRule: unknown flag '{name}'")


def _flags(written: str, line: Directive) -> list[tuple[str, str]]:
    text, _ = _argument(written)
    if text is None or (not text and written == _BEHIND_A_QUOTE):
        return []
    if not (text.startswith("[") and text.endswith("]")) or text == "[]":
        raise RuleFault(line.line, f"{titled(line.name)}: bad flag delimiters")
    found = []
    for part in text[1:-1].split(","):
        name, _, value = part.strip().partition("=")
        if name:
            found.append((name.strip().lower(), value.strip()))
    return found


_BEHIND_A_QUOTE = '""\0'
"""The argument of no letters that begins behind a closing quote."""


def _argument(text: str) -> tuple[str | None, str]:
    """The next argument of a rewriting line, which keeps its backslashes, and what follows."""
    if text == _BEHIND_A_QUOTE:
        return "", text
    text = text.lstrip()
    if not text:
        return None, ""
    quote = text[0] if text[0] in "\"'" else ""
    at = begin = 1 if quote else 0
    while at < len(text):
        if (text[at] == quote) if quote else text[at].isspace():
            break
        if text[at] == "\\" and text[at + 1 : at + 2].isspace():
            at += 1
        at += 1
    rest = text[at + 1 :].lstrip()
    # behind a closing quote an argument begins, if of no letters
    return text[begin:at], rest or (_BEHIND_A_QUOTE if quote and at < len(text) else "")
