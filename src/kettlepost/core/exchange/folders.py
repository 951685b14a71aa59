"""A stored survey: domains that an account seems to have, guessed from its folders alone."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

import msgspec

from kettlepost.core.exchange.observed import Opener, Reading, SeenHost, SourceSpot
from kettlepost.core.layout import bare_and_www
from kettlepost.core.messages import Message, say
from kettlepost.core.names import HostName, InvalidName, unprintable
from kettlepost.core.survey import Survey, decode_survey

_PUBLIC = ("public_html", "htdocs", "html", "public", "www", "web")
_ENDING = re.compile(r".*\.[a-z]{2,}|.*\.xn--[a-z0-9-]+")
_FILES = re.compile(r"\.(?:php|html?|js|css|txt|bak|old|zip|tar|gz|git|svn|d|conf|cfg|log|orig|tmp|dist|min)$")
_ASKED = re.compile(r"HTTP_HOST\}?\s+\"?=?!?\^?(?:\(?www\\?\.\)?\??)?((?:[a-z0-9-]+\\?\.)+[a-z]{2,})", re.IGNORECASE)
_DEEPEST = 4


class _Head(msgspec.Struct):
    account: str


def is_it(raw: bytes) -> bool:
    """Whether a file is a survey as it is stored."""
    return raw.startswith(b'{"kettlepost":') and b'\n"folders":[' in raw[:4096]


def read(files: Sequence[tuple[str, bytes]], _opener: Opener, _root: str = "") -> Reading:
    """Domains by folders that are called like hosts, by what applications say of themselves, and by control files."""
    found = Reading(files=[name for name, _ in files])
    for name, raw in files:
        survey = decode_survey(raw, name, account := _account_of(raw))
        hosts: dict[HostName, SeenHost] = {}
        for host, folder, guess in _guesses(survey):
            bare, with_www = bare_and_www(host)
            names = [with_www] if host == with_www else []  # it stands somewhere, and people come by the bare name too
            hosts.setdefault(bare, SeenHost(bare, SourceSpot(name, 0), folder, names, account=account, guess=guess))
        found.hosts += hosts.values()
    return found


def _account_of(raw: bytes) -> str:
    """The account that a survey is of; empty where that cannot be told."""
    try:
        return msgspec.json.decode(raw, type=_Head).account
    except (msgspec.MsgspecError, ValueError, RecursionError):
        return ""


def _guesses(survey: Survey) -> Iterator[tuple[HostName, str, Message]]:
    """Hosts with their folders, the surest first."""
    applications = {one.folder for one in survey.applications}
    for application in survey.applications:
        address = re.sub(r"^[a-z]+://", "", application.address)
        host, _, path = address.partition("/")
        name = _host(host.partition(":")[0])
        if name is not None and not path.strip("/") and not application.condition:
            yield name, application.folder, say("import/guess/application", application=application.application)
    there = {one.folder: one for one in survey.folders}
    for folder, known in there.items():
        name = _host(folder.name) if folder.depth <= _DEEPEST and not _FILES.search(folder.name) else None
        if name is None or any(above in applications for above in folder.above()):
            continue
        inner = next((one for word in _PUBLIC if (one := folder.below(word)) in there), None)
        shown = folder if known.index or folder in applications or inner is None else inner
        if known.index or inner is not None or folder in applications:
            yield name, shown, say("import/guess/name")
    for control in survey.controls:
        names = {
            name
            for line in control.lines
            for host in _ASKED.findall(unprintable(line))
            if (name := _host(host.replace("\\", "")))
        }
        lies = there.get(control.folder)
        is_site = control.folder in applications or (lies is not None and bool(lies.index))
        if len(names) == 1 and not control.own and is_site:
            bare, with_www = bare_and_www(names.pop())
            written = "\n".join(map(unprintable, control.lines)).replace("\\", "").lower()
            yield (
                with_www if with_www in written else bare,
                control.folder,
                say("import/guess/control-file", file=control.file),
            )


def _host(written: str) -> HostName | None:
    """A host name that people register, not what a file or a version is called."""
    if "." not in written or not _ENDING.fullmatch(written.lower()):
        return None
    try:
        return HostName.parse(written)
    except InvalidName:
        return None
