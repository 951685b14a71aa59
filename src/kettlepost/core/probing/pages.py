"""What a reply from outside shows: an application by its public marks, a page that holds the place, a listing, ..."""

from __future__ import annotations

import html
import re
from collections.abc import Iterable, Mapping, Sequence
from fnmatch import fnmatchcase
from typing import NamedTuple
from urllib.parse import urlsplit

from kettlepost.core.names import printable
from kettlepost.core.plan import Application, PublicMarks
from kettlepost.core.survey import PlaceholderFinder, ShownKind, page_digest
from kettlepost.core.survey.pages import decoded

LONGEST_PAGE = 1_000_000
"""So many bytes of a page are read."""
_LONGEST_TEXT = 200
_TITLE = re.compile(r"<title[^<>]{0,200}>([^<]{0,1000})", re.IGNORECASE)
_LANGUAGE = re.compile(r"<html\b[^<>]{0,2000}?\slang\s{0,5}=\s{0,5}[\"']?([A-Za-z0-9-]{1,35})", re.IGNORECASE)
_META = re.compile(r"<meta\b([^<>]{0,2000})>", re.IGNORECASE)
_NAMED = re.compile(
    r"(name|content)\s{0,5}=\s{0,5}(?:\"([^\"]{0,500})\"|'([^']{0,500})'|([^\s\"'>]{1,500}))", re.IGNORECASE
)
_ADDRESS = re.compile(
    r"\b(?:href|src|action)\s{0,5}=\s{0,5}(?:\"([^\"]{0,1000})\"|'([^']{0,1000})'|([^\s\"'>]{1,1000}))", re.IGNORECASE
)
_LOADED = re.compile(
    r"<(?:img|script|iframe|source|video|audio|embed|link\b(?=[^<>]{0,500}rel\s{0,5}=\s{0,5}[\"']?(?:stylesheet|icon)))"
    r"\b[^<>]{0,2000}?\b(?:src|href)\s{0,5}=\s{0,5}[\"']?http://", re.IGNORECASE,
)  # fmt: skip
_PASSWORD = re.compile(r"<input\b[^<>]{0,1000}?\btype\s{0,5}=\s{0,5}[\"']?password", re.IGNORECASE)
_LISTING = re.compile(r"^(?:index of|directory listing (?:for|of)) /", re.IGNORECASE)
_PHP_INFO = re.compile(r"^(?:PHP [0-9.]+\S* - )?phpinfo\(\)$")
_MOST_ADDRESSES = 2000


class Received(NamedTuple):
    """A reply in the end: its status, its headers as they came, and as much of its body as was read, unpacked."""

    url: str
    status: int
    headers: Sequence[tuple[str, str]]
    body: bytes
    is_whole: bool = True

    def header(self, name: str) -> str:
        """The value of a header, of several with a comma between them; empty for none."""
        return ", ".join(value for key, value in self.headers if key.lower() == name)


class SeenContent(NamedTuple):
    """What a reply shows, field by field as a `SeenPage` has it."""

    kind: ShownKind
    what: str = ""
    title: str = ""
    language: str = ""
    generator: str = ""
    server: str = ""
    size: int = 0
    digest: str = ""
    is_fresh: bool = False
    keeps_out: str = ""
    mixed: int = 0
    cookies: tuple[str, ...] = ()


class PageJudge:
    """What is known of pages: the marks of applications, and how pages that hold the place are known."""

    def __init__(self, applications: Mapping[str, Application], placeholders: PlaceholderFinder):
        self._applications = applications
        marked = [(one, one.shows) for one in applications.values() if one.shows is not None]
        self._generators = [(name.lower(), one) for one, marks in marked for name in marks.generator]
        self._cookies = [(name, one) for one, marks in marked for name in marks.cookies]
        self._paths = [(path, one) for one, marks in marked for path in marks.paths]
        self._headers = [(header, one) for one, marks in marked for header in marks.headers]
        self._texts = [(said, one) for one, marks in marked for said in (*marks.says, *marks.installer)]
        self._placeholders = placeholders

    def content(self, reply: Received) -> SeenContent:
        """What a reply shows, in time that grows with its length."""
        text = decoded(reply.body) if reply.body else ""
        title = " ".join(_title(text).split())
        metas = dict(_metas(text))
        kind, what, fresh = self._kind(reply, text, title, metas)
        return SeenContent(
            kind, what, _short(title), _first(_LANGUAGE, text), _short(metas.get("generator", "")),
            _short(reply.header("server")), len(reply.body), page_digest(reply.body) if reply.is_whole else "", fresh,
            _keeps_out(reply, metas), len(_LOADED.findall(text)) if reply.url.startswith("https:") else 0,
            tuple(sorted(set(_bare_cookies(reply)))),
        )  # fmt: skip

    def _kind(self, reply: Received, text: str, title: str, metas: Mapping[str, str]) -> tuple[ShownKind, str, bool]:
        """What is shown, what that is exactly, and whether it is as it was installed."""
        if reply.status == 401:
            return ShownKind.LOGIN, "", False
        if 300 <= reply.status < 400:
            return ShownKind.REDIRECT, "", False
        found = self._application(reply, text, metas)
        if reply.status == 503:
            return ShownKind.MAINTENANCE, found[0].id if found is not None else "", False
        if reply.status >= 400:
            return ShownKind.ERROR, "", False
        if _PHP_INFO.match(title):
            return ShownKind.PHP_INFO, "", False
        if _LISTING.match(title):
            return ShownKind.LISTING, "", False
        if found is not None:
            return self._of_application(*found, reply, text)
        judged = self._placeholders.judge(reply.body) if reply.is_whole else None
        if judged is not None and judged.kind == "empty":
            return ShownKind.EMPTY, "", False
        if judged is not None and judged.is_sure and judged.kind not in ("redirect", "stub"):
            return ShownKind.PLACEHOLDER, _short(judged.kind), False
        return (ShownKind.LOGIN if _PASSWORD.search(text) else ShownKind.PAGE), "", False

    def _of_application(
        self, known: Application, marks: PublicMarks, reply: Received, text: str
    ) -> tuple[ShownKind, str, bool]:
        path = urlsplit(reply.url).path
        if known.set_up and path.endswith("/" + known.set_up.partition("?")[0].strip("/")):
            return ShownKind.INSTALLER, known.id, False
        if any(said in text for said in marks.installer):
            return ShownKind.INSTALLER, known.id, False
        return ShownKind.APPLICATION, known.id, any(said in text for said in marks.fresh)

    def _application(
        self, reply: Received, text: str, metas: Mapping[str, str]
    ) -> tuple[Application, PublicMarks] | None:
        """The application that a reply comes from; None where no mark tells, or those of several are there."""
        found = [one for said, one in self._texts if said in text]
        if generator := metas.get("generator", "").lower():
            found += [one for begin, one in self._generators if generator.startswith(begin)]
        for key, value in reply.headers:
            if key.lower() == "set-cookie":
                cookie = value.partition("=")[0].strip()
                found += [one for mark, one in self._cookies if fnmatchcase(cookie, mark)]
        found += [one for mark, one in self._headers if _has_header(reply, mark)]
        if any(path.lstrip("/") in text for path, _ in self._paths):
            own = _own_paths(reply.url, text)
            found += [one for mark, one in self._paths if any(mark in path for path in own)]
        known = {one.id: one for one in found}
        only = next(iter(known.values())) if len(known) == 1 else None
        return (only, only.shows) if only is not None and only.shows is not None else None


def kept_out_by_robots(robots: str, path: str) -> bool:
    """Whether a `robots.txt` keeps every program out of a path (RFC 9309)."""
    from urllib.robotparser import RobotFileParser  # which loads much, and few commands want it

    parser = RobotFileParser()
    parser.parse(robots.splitlines()[:5000])
    return not parser.can_fetch("*", path or "/")


def _has_header(reply: Received, mark: str) -> bool:
    name, _, value = mark.partition(":")
    told = reply.header(name.strip().lower())
    return bool(told) and value.strip().lower() in told.lower()


def _own_paths(url: str, text: str) -> list[str]:
    """The paths on its own host that a page points to."""
    host, found = urlsplit(url).netloc.lower(), list[str]()
    for number, match in enumerate(_ADDRESS.finditer(text)):
        if number > _MOST_ADDRESSES:
            break
        written = next(filter(None, match.groups()), "")
        _, scheme, rest = written.partition("//")
        if scheme and written.lower().startswith(("http:", "https:", "//")):
            there, _, path = rest.partition("/")
            if there.lower() != host:
                continue
            written = f"/{path}"
        found.append(written if written.startswith("/") else f"/{written}")
    return found


def _keeps_out(reply: Received, metas: Mapping[str, str]) -> str:
    if any(word in reply.header("x-robots-tag").lower() for word in ("noindex", "none")):
        return "header"
    return "meta" if any(word in metas.get("robots", "").lower() for word in ("noindex", "none")) else ""


def _bare_cookies(reply: Received) -> Iterable[str]:
    """The names of cookies that any script reads, or that an https page lets go by http."""
    for key, value in reply.headers:
        if key.lower() == "set-cookie":
            flags = {part.strip().lower() for part in value.split(";")[1:]}
            if "httponly" not in flags or (reply.url.startswith("https:") and "secure" not in flags):
                yield _short(value.partition("=")[0].strip())


def _metas(text: str) -> Iterable[tuple[str, str]]:
    for match in reversed(list(_META.finditer(text[:LONGEST_PAGE]))[:500]):
        facts = {name.lower(): next(filter(None, values), "") for name, *values in _NAMED.findall(match[1])}
        if "name" in facts and "content" in facts:
            yield facts["name"].lower(), facts["content"]


def _title(text: str) -> str:
    return html.unescape(_first(_TITLE, text))


def _first(pattern: re.Pattern[str], text: str) -> str:
    match = pattern.search(text)
    return match[1] if match is not None else ""


def _short(text: str) -> str:
    return printable(text[:_LONGEST_TEXT].strip())
