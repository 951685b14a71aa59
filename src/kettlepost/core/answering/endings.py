"""What an address shows in the end: redirects followed as far as they stay within the plan."""

from __future__ import annotations

from typing import NamedTuple
from urllib.parse import urlsplit

from kettlepost.core.answering.answers import answer
from kettlepost.core.answering.facts import Answer
from kettlepost.core.answering.serving import Request
from kettlepost.core.layout import PlanLayout, When
from kettlepost.core.names import Address
from kettlepost.core.webserver import Visitor

_HOPS = 10


class ExpectedPage(NamedTuple):
    """What `where` says of an address in the end: the answer there, and the address, None where it leaves the plan."""

    answer: Answer
    end: Address | None
    leaves: str = ""
    is_sure: bool = True


def expected_page(layouts: PlanLayout, url: str, when: When, signed_in: bool = False) -> ExpectedPage:
    """What is said of an address, with the redirects followed that stay within the plan, for whoever is `signed_in`."""
    who = Visitor(is_known=signed_in)
    request = Request.parse(url, visitor=who)
    is_sure, passed = True, set[str]()
    for _ in range(_HOPS):
        found = answer(layouts, request.address, when, request)
        is_sure = is_sure and found.certainty == "certain"
        if found.end is not None:
            last = found.hops[-1].target
            return ExpectedPage(found.end, last, is_sure=is_sure and found.end.certainty == "certain")
        goes = found.goes
        if goes is None or found.goes_round:
            is_away = found.kind == "redirect" and found.location is not None
            leaves = found.location or "" if is_away and not found.goes_round else ""
            return ExpectedPage(found, request.address, leaves, is_sure)
        if layouts.mount(goes, when) is None:
            return ExpectedPage(found, None, found.location or f"http://{goes}", is_sure)
        onward = found.location or str(goes)
        if onward in passed:
            return ExpectedPage(found._replace(goes_round=True), request.address, "", is_sure)
        passed.add(onward)
        request = Request.parse(onward if "://" in onward else f"{urlsplit(url).scheme}://{goes}", visitor=who)
    return ExpectedPage(found, request.address, "", False)
