"""Variables that control files set by what a request says (mod_setenvif)."""

from __future__ import annotations

import re

from msgspec import Struct

from kettlepost.core.webserver.directives import Directive, Section, split_first, split_words

_PLAIN = frozenset(
    """request_uri host remote_addr request_method request_protocol server_addr user-agent referer x-forwarded-proto
    authorization accept accept-language cookie x-requested-with""".split()
)
"""What is asked for by a pattern that holds no secret."""
_SIMPLE = frozenset(" 0 1 on off yes no true false https http allow deny $1 $0".split(" "))
MASKED = "***"


class EnvironmentTest(Struct, frozen=True):
    """One line: what is looked at, for what, and which variables are then set, or taken out where there is no value."""

    folder: str
    line: int
    text: str
    attribute: str
    pattern: str
    ignores_case: bool
    sets: tuple[tuple[str, str | None], ...]
    file: str = ""


def read_test(folder: str, node: Directive | Section) -> EnvironmentTest | None:
    """A line as it is written; None for one that is incomplete, which a server refuses."""
    name, words = node.name, split_words(node.text)
    if name.startswith("browsermatch"):
        words = ["User-Agent", *words]
    if len(words) < 3:
        return None
    sets = []
    for word in words[2:]:
        variable, equals, value = word.partition("=")
        is_taken = variable.startswith("!")
        sets.append((variable.lstrip("!"), None if is_taken else value if equals else "1"))
    return EnvironmentTest(
        folder,
        node.line,
        f"{node.name} {node.text}",
        words[0],
        words[1],
        name.endswith("nocase"),
        tuple(sets),
        node.file,
    )


def harmless(name: str, text: str) -> str:
    """What follows such a directive's name, without what could be a secret, in a pattern or a value."""
    words = split_words(text)
    attribute = [] if name.startswith("browsermatch") else words[:1]
    pattern, *sets = words[len(attribute) :] or [""]
    if attribute and attribute[0].lower() not in _PLAIN and not re.fullmatch(r"[\^.*+$()]*", pattern):
        pattern = MASKED
    told = [*attribute, '"' + re.sub(r'\\(?=\\|"|$)|"', lambda sign: "\\" + sign[0], pattern) + '"']
    for word in sets:
        variable, equals, value = split_first(word)[0].partition("=")
        told.append(f"{variable}{equals}{value if value.lower() in _SIMPLE else MASKED}")
    return " ".join(told)


_KNOWN_TO_FEW = re.compile(
    r"%\{(?:HTTP:(?!(?:X-Forwarded-|Accept|Host|User-Agent|Referer|Content-|Upgrade|Connection|CF-|X-Proto|X-Real|Via|DNT"
    r"|Sec-|Cookie|X-Requested-With|X-Url|Forwarded|Range|Cache|Pragma|Origin)[\w-]*\})|HTTP_AUTHORIZATION)",
    re.IGNORECASE,
)
"""A header of a visitor's whose value may be known to few."""
_COMPARED = re.compile(r"'[^']+'|(?<=[=!]~)\s*m?([/#|,!;:%^?]).+?\1i?")
_SET = re.compile(
    r"(\bE(?:NV)?=[\w.-]*(?:pass|secret|token|key|pwd)[\w.-]*:)"
    r"(?!(?:[-_.]?(?:https?|ssl|www|mobile|desktop|tablet|gzip|br|webp|on|off|yes|no|true|false|[01])[-_.]?|(?:[$%]\d|%\{[^},\s]*\})+)[,\]\s])"
    r"[^,\]\s]+",
    re.IGNORECASE,
)
"""A variable named as a secret is, with its value, but for what is plainly none: a state, or a part of the request."""
_ANY = re.compile(r"!?[\^.*+$()=]*")
"""What says of a value no more than whether there is one."""


def without_values(name: str, text: str) -> str:
    """What follows the name of a condition or rule, without values of headers and variables that few may know."""
    if name == "rewriterule":
        return _SET.sub(rf"\g<1>{MASKED}", text)
    if name not in ("rewritecond", "if", "elseif", "require") or not _KNOWN_TO_FEW.search(text):
        return text
    first, rest = split_first(text)
    if name != "rewritecond" or first.lower() == "expr":
        return _COMPARED.sub(lambda found: f"'{MASKED}'" if found[0][0] == "'" else f" m#{MASKED}#", text)
    second, flags = split_first(rest)
    sign = re.match(r"!?[=<>]*", second)
    told = second if _ANY.fullmatch(second) else f"{sign[0] if sign is not None else ''}{MASKED}"
    return f"{first} {told} {flags}".strip()
