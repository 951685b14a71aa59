"""What a request gets from a server that knows no control files, as nginx does it."""

from __future__ import annotations

from urllib.parse import quote, unquote

from kettlepost.core.webserver.state import SAFE, Asked, Notes, Reply, Site

_ROUNDS = 10


def plain_reply(site: Site, asked: Asked, fallback: str | None = None) -> Reply:
    """What a visitor gets who asks for an address; `fallback` is the path shown for what is not there.

    Whether a name is there that nothing tells of is gone through both ways.
    """
    notes = Notes()
    reply = _Plain(site, asked, notes, fallback).reply()
    if not notes.decisions:
        return reply
    other = _Plain(site, asked, Notes(tuple(not one.answer for one in notes.decisions[:1])), fallback).reply()
    if (reply.status, reply.file, reply.location) == (other.status, other.file, other.location):
        return reply
    return reply._replace(doubts=tuple((one.had, one.on) for one in notes.decisions[:1]))


class _Plain:
    def __init__(self, site: Site, asked: Asked, notes: Notes, fallback: str | None):
        self._site = site
        self._asked = asked
        self._notes = notes
        self._fallback = fallback

    def reply(self) -> Reply:
        uri = _normal(self._asked.path)
        if uri is None:
            return self._notes.reply(400)
        return self._served(uri, is_first=True)

    def _served(self, uri: str, is_first: bool) -> Reply:
        place = self._place(uri)
        if place is None:
            return self._notes.reply(404)
        lies = self._lies(place)
        if lies == "folder" and not uri.endswith("/"):
            query = f"?{self._asked.query}" if self._asked.query else ""
            goes = f"{self._asked.scheme}://{self._asked.host}{quote(uri, safe=SAFE)}/{query}"
            return self._notes.reply(301, location=goes)
        if lies == "folder":
            return self._folder(place)
        if lies == "file" and not uri.endswith("/"):
            return self._notes.reply(200, file=place)
        if self._fallback is None or not is_first:
            return self._notes.reply(404)
        return self._served(_normal(quote(self._fallback, safe=SAFE)) or "/", is_first=False)

    def _folder(self, place: str) -> Reply:
        for name in self._asked.index_files:
            file = f"{place}/{name}" if place else name
            if self._lies(file) == "file":
                return self._notes.reply(200, file=file)
        return self._notes.reply(403, folder=place)

    def _place(self, uri: str) -> str | None:
        """The path below the home that an address leads to."""
        asked, rest, alias = self._asked, uri.strip("/"), self._asked.alias.strip("/")
        base: str | None = asked.root
        if alias:
            inside = rest == alias or rest.startswith(alias + "/")
            rest = rest[len(alias) :].strip("/") if inside else rest
            base = asked.root if inside else asked.document_root
        return None if base is None else "/".join(filter(None, (base, rest)))

    def _lies(self, place: str) -> str:
        lies = self._site.stands(place)
        if lies != "unknown":
            return lies
        if self._site.is_link(place):
            self._notes.doubt(None, f"what lies behind the link {place}")
        return "file" if self._notes.decide(("there", place), None, f"whether {place} is there") else "nothing"


def _normal(path: str) -> str | None:
    """A path as such a server takes it: decoded, one slash for several, no dot segments; None where it is refused."""
    text = unquote(path, errors="surrogateescape")
    if "\0" in text:
        return None
    parts: list[str] = []
    pieces = text.split("/")
    for part in pieces:
        if part == "..":
            if not parts:
                return None
            parts.pop()
        elif part not in ("", "."):
            parts.append(part)
    ends = text.endswith("/") or pieces[-1] in (".", "..")
    return "/" + "/".join(parts) + ("/" if ends and parts else "")
