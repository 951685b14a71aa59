"""The arguments of directives that read their line themselves: what a server refuses of them, in words.

Each stands here as a real server was seen to take and to refuse it (tests/lines.txt); of what is not told here
nothing is said.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence

from kettlepost.core.secrets import MASK
from kettlepost.core.webserver.directives import until_empty
from kettlepost.core.webserver.expressions import expression_fault
from kettlepost.core.webserver.patterns import PatternTrouble, compiled, is_no_pattern

Reader = Callable[[Sequence[str]], str]
_FIELD_NAME = re.compile(r"[\w!#$%&'*+.^`|~-]+:?", re.ASCII)
_ACTIONS = {
    **dict.fromkeys(("add", "set", "setifempty", "append", "merge", "note"), 2),
    **dict.fromkeys(("edit", "edit*"), 3),
    **dict.fromkeys(("unset", "echo"), 1),
}
"""What a header line does, and how many arguments that wants; behind them may stand when it holds."""
_INDEX_OPTIONS = frozenset(
    """addaltclass charset descriptionwidth fancyindexing foldersfirst htmltable iconheight iconsarelinks iconwidth
    ignorecase ignoreclient namewidth none scanhtmltitles showforbidden suppresscolumnsorting suppressdescription
    suppresshtmlpreamble suppressicon suppresslastmodified suppressrules suppresssize trackmodified type
    useolddateformat versionsort xhtml""".split()
)
_METHODS = frozenset(
    """GET PUT POST DELETE CONNECT OPTIONS PATCH PROPFIND PROPPATCH MKCOL COPY MOVE LOCK UNLOCK VERSION-CONTROL
    CHECKOUT UNCHECKOUT CHECKIN UPDATE LABEL REPORT MKWORKSPACE MKACTIVITY BASELINE-CONTROL MERGE HEAD""".split()
)
_OPTIONS = frozenset(
    "all none indexes followsymlinks symlinksifownermatch multiviews execcgi includes includesnoexec".split()
)
_SSL_OPTIONS = frozenset(
    "stdenvvars exportcertdata fakebasicauth strictrequire optrenegotiate legacydnstringformat compatenvvars".split()
)
_REWRITE_OPTIONS = frozenset(
    """inherit inheritbefore inheritdown inheritdownbefore ignoreinherit allownoslash allowanyuri mergebase
    ignorecontextinfo legacyprefixdocroot unsafeprefixstat""".split()
)
_EXPIRES = re.compile(
    r"[AM]\d+|[anm]\S*(?:\s+p\S*)?(?:\s+\d\S*\s+(?:y|mo|w|d|h|mi|s)\S*)*",
    re.IGNORECASE,
)


def pattern_fault(pattern: str) -> str:
    """Why a server refuses a regular expression; empty where it takes it, or that is not known, as of a masked one."""
    try:
        compiled(pattern)
    except PatternTrouble as error:
        if is_no_pattern(str(error)):
            return f"{pattern} is no regular expression"
    return ""


def methods_fault(words: Sequence[str]) -> str:
    """Why a server refuses the methods of `<Limit>` and `<LimitExcept>`."""
    if not words:
        return "no method is named"
    wrong = next((word for word in words if word not in _METHODS), None)
    return f"{wrong} is no method that can be limited" if wrong is not None else ""


def argument_fault(name: str, words: Sequence[str]) -> str:
    """Why a server refuses the arguments of a directive that reads its line itself; empty where that is not known."""
    reader = _READERS.get(name)
    return reader(words) if reader is not None else ""


def _header(words: Sequence[str]) -> str:
    rest = list(words)
    if rest and rest[0].lower() in ("always", "onsuccess", "early"):
        rest = rest[1:]
    wanted = _ACTIONS.get(rest[0].lower()) if rest else None
    if wanted is None:
        return "it says not what is to be done"
    if len(rest) - 1 < wanted and wanted > 1:
        return f"{rest[0]} wants {wanted} arguments"
    more = rest[1 + wanted :]
    if len(more) > 1 or (more and not more[0].lower().startswith(("env=", "expr=", "early"))):
        return f"{more[0]} says not when it holds"
    return expression_fault(more[0][5:]) if more and more[0].lower().startswith("expr=") else ""


def spoils_answers(words: Sequence[str]) -> bool:
    """Whether a `Header` gives answers a field whose name is none (RFC 9110 section 5.1), so that they are errors."""
    rest = [word for word in words if word.lower() not in ("always", "onsuccess", "early")]
    makes = bool(rest) and rest[0].lower() in ("set", "setifempty", "add", "append", "merge")
    return makes and len(rest) > 1 and (rest[1] == MASK or not _FIELD_NAME.fullmatch(rest[1]))


def _one_of(*known: str) -> Reader:
    return lambda words: "" if words and words[0].lower() in known else f"it is none of {', '.join(known)}"


def _each_of(known: frozenset[str], signs: str = "+-") -> Reader:
    def read(words: Sequence[str]) -> str:
        names = (word.lstrip(signs).partition("=")[0].lower() for word in words)
        wrong = next((name for name in names if name not in known), None)
        return f"{wrong} is none of its options" if wrong is not None else ""

    return read


def _until_empty(reader: Reader) -> Reader:
    return lambda words: reader(until_empty([*words]))


def _index_options(words: Sequence[str]) -> str:
    words = [word for word in words if word]
    if any(word.lower() in ("+none", "-none") for word in words):
        return "none takes no sign"
    return _each_of(_INDEX_OPTIONS)(words)


def _index_order(words: Sequence[str]) -> str:
    first, second = [*(word.lower() for word in words), "", ""][:2]
    if first not in ("ascending", "descending") or second not in ("name", "date", "size", "description"):
        return "it names no order"
    return ""


def _rewrite_options(words: Sequence[str]) -> str:
    words = until_empty([*words])
    names = [word.lower() for word in words if not word.lower().startswith("maxredirects=")]
    wrong = next((name for name in names if name not in _REWRITE_OPTIONS), None)
    return f"{wrong} is none of its options" if wrong is not None or not words else ""


def _set_env_if(least: int) -> Reader:
    def read(words: Sequence[str]) -> str:
        if len(until_empty([*words])) < least:
            return f"it wants {least} arguments"
        return pattern_fault(words[least - 2])

    return read


def _expires(words: Sequence[str]) -> str:
    code = words[-1] if words else ""
    return "" if _EXPIRES.fullmatch(code.strip()) else f"{code} is no time"


def _expires_by_type(words: Sequence[str]) -> str:
    return _expires(words) if words and ("/" in words[0]) else "it names no type"


def _not_negative(words: Sequence[str]) -> str:
    return "" if words and re.fullmatch(r"\+?[0-9]{1,18}", words[0]) else "it takes a number from 0 on"


def _signed(words: Sequence[str]) -> str:
    return f"{words[0]} is less than nothing" if words and words[0].startswith("-") else ""


_CGI = [["request_uri", "original-uri"], ["request_uri", "current-uri"]]


def _options(words: Sequence[str]) -> str:
    by_sign = all_or_none = False
    for number, word in enumerate(words):
        sign, name = (word[0], word[1:].lower()) if word[:1] in ("+", "-") else ("", word.lower())
        if (sign and number and not all_or_none and not by_sign) or (not sign and by_sign):
            return "either all begin with a sign, or none does"
        by_sign = by_sign or bool(sign)
        if name not in _OPTIONS:
            return f"there is no option {name}"
        if name in ("all", "none"):
            if number or sign:
                return f"{name} comes first, and takes no sign"
            all_or_none = True
    return ""


_READERS: dict[str, Reader] = {
    "options": _options,
    "setenvifexpr": lambda words: expression_fault(words[0]) if len(words) > 1 else "it wants 2 arguments",
    "sslrequire": lambda words: "" if words else "it asks for nothing",
    "header": _header,
    "requestheader": _header,
    "indexoptions": _index_options,
    "rewriteoptions": _rewrite_options,
    "serversignature": _one_of("on", "off", "email"),
    "enablesendfile": _one_of("on", "off"),
    "enablemmap": _one_of("on", "off"),
    "fileetag": _each_of(frozenset(("none", "all", "mtime", "size", "inode", "digest"))),
    "browsermatch": lambda words: pattern_fault(words[0]) if len(words) > 1 else "it wants 2 arguments",
    "browsermatchnocase": lambda words: pattern_fault(words[0]) if len(words) > 1 else "it wants 2 arguments",
    "setenvif": _set_env_if(3),
    "setenvifnocase": _set_env_if(3),
    "expiresdefault": _expires,
    "expiresbytype": _expires_by_type,
    "limitrequestbody": _not_negative,
    "limitxmlrequestbody": _signed,
    "sslrenegbuffersize": _signed,
    "sslverifydepth": _signed,
    "deflateinflateratiolimit": _signed,
    "deflateinflateratioburst": _signed,
    "deflateinflatelimitrequestbody": _signed,
    "multiviewsmatch": _until_empty(_each_of(frozenset(("any", "negotiatedonly", "filters", "handlers")), "")),
    "authbasicusedigestalgorithm": _one_of("off", "md5"),
    "sslciphersuite": lambda words: "" if len(words) < 2 or words[0].lower() in ("ssl", "tlsv1.3") else "no protocol",
    "filterprovider": lambda words: expression_fault(words[2]) if len(words) > 2 else "it wants 3 arguments",
    "cgivar": lambda words: "" if [*map(str.lower, words)] in _CGI else "it names no variable",
    "ssloptions": _each_of(_SSL_OPTIONS),
    "forcelanguagepriority": _until_empty(_each_of(frozenset(("prefer", "fallback", "none")), "")),
    "sslverifyclient": _one_of("none", "optional", "require", "optional_no_ca", "on", "off"),
    "authmerging": _one_of("off", "and", "or"),
    "indexorderdefault": _index_order,
}
