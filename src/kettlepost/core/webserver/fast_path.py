"""What a request gets from a server that knows no control files, as nginx does it."""

from __future__ import annotations

from urllib.parse import quote

from kettlepost.core.messages import say
from kettlepost.core.webserver.access import restricting
from kettlepost.core.webserver.escaping import apache_path
from kettlepost.core.webserver.server import HOW_PHP_RUNS, WHETHER_IT_LISTS
from kettlepost.core.webserver.state import SAFE, AnswerNotes, Reply, ServerRequest, Site, clean, resolve_unknowns


def plain_reply(site: Site, request: ServerRequest, fallback: str | None = None) -> Reply:
    """What a visitor gets who asks for an address; `fallback` is the path shown for what is not there."""

    def reply(notes: AnswerNotes) -> Reply:
        uri = clean(request.path, takes_slashes=True)
        return notes.reply(uri) if isinstance(uri, int) else _Plain(site, request, notes, fallback).served(uri)

    return resolve_unknowns(reply)


class _Plain:
    def __init__(self, site: Site, request: ServerRequest, notes: AnswerNotes, fallback: str | None):
        self._site = site
        self._request = request
        self._notes = notes
        self._fallback = fallback
        self._method = restricting(request.visitor.method)
        self._is_taken = self._method in ("GET", "POST")

    def served(self, uri: str, is_first: bool = True) -> Reply:
        """What is given for a path, or for that of the fallback."""
        base, rest = self._request.mapped(uri)
        if base is None:
            return self._notes.reply(404)
        place = "/".join(filter(None, (base, rest)))
        lies, ends = self._lies(place), uri.endswith("/")
        if lies == "folder" and not self._is_taken:
            return self._notes.reply(405)
        if lies == "folder" and not ends:
            query = f"?{self._request.query}" if self._request.query else ""
            goes = f"{self._request.scheme}://{self._request.host}{apache_path(uri)}/{query}"
            return self._notes.reply(301, location=goes)
        if lies == "folder":
            return self._folder(place)
        if lies == "file" and not ends:
            return self._file(place)
        if self._fallback is None or not is_first or (uri.lower().endswith(".php") and self._runs_php()):
            return self._notes.reply(404 if self._is_taken else 405)
        goes_to = clean(quote(self._fallback, safe=SAFE))
        return self.served(goes_to if isinstance(goes_to, str) else "/", is_first=False)

    def _runs_php(self) -> bool:
        """Whether PHP gets what is asked for by such a name, which says by itself that there is none."""
        php = self._request.server.php
        return php != "none" if php is not None else self._notes.decide("php", None, HOW_PHP_RUNS, True)

    def _folder(self, place: str) -> Reply:
        for name in self._request.index_files:
            file = f"{place}/{name}" if place else name
            if self._lies(file) == "file":
                return self._file(file)
        lists = self._request.server.lists
        if lists is None and self._request.server.kind != "nginx":  # which denies it as it is made
            lists = self._notes.decide("lists", None, WHETHER_IT_LISTS)
        return self._notes.reply(200 if lists else 403, folder=place)

    def _file(self, place: str) -> Reply:
        """A file, which is for those who ask by GET, unless it is a program."""
        is_given = self._method == "GET" or place.lower().endswith(".php")
        return self._notes.reply(200, file=place) if is_given else self._notes.reply(405)

    def _lies(self, place: str) -> str:
        lies = self._site.stands(place)
        if lies != "unknown":
            return lies
        if self._site.is_link(place):
            self._notes.doubt(None, say("doubt/behind-link", place=place))
        return "file" if self._notes.decide(("there", place), None, say("doubt/is-there", place=place)) else "nothing"
