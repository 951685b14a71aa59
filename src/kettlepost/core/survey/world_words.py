"""What was seen in the world, in a line."""

from __future__ import annotations

from collections.abc import Mapping

from kettlepost.core.messages import Message, say
from kettlepost.core.survey.world import NameState, SeenName, SeenPage, ShownKind

_SHOWN_AS = {
    ShownKind.APPLICATION: "probe/shown/application",
    ShownKind.PLACEHOLDER: "probe/shown/placeholder",
    ShownKind.LISTING: "probe/shown/listing",
    ShownKind.INSTALLER: "probe/shown/installer",
    ShownKind.PHP_INFO: "probe/shown/phpinfo",
    ShownKind.ERROR: "probe/shown/error",
    ShownKind.MAINTENANCE: "probe/shown/maintenance",
    ShownKind.LOGIN: "probe/shown/login",
    ShownKind.PAGE: "probe/shown/page",
    ShownKind.EMPTY: "probe/shown/empty",
    ShownKind.REDIRECT: "probe/shown/redirect",
    ShownKind.NOTHING: "probe/shown/nothing",
}


def name_words(seen: SeenName) -> Message:
    """What name servers say of a name."""
    match seen.state:
        case NameState.FOUND:
            chain = say("probe/names/chain", names=seen.chain) if seen.chain else None
            return say("probe/names/leads", addresses=seen.addresses, chain=chain)
        case NameState.NO_ADDRESS:
            return say("probe/names/no-address")
        case NameState.NO_SUCH_NAME:
            return say("probe/names/no-such-name")
        case NameState.NO_SERVER:
            return say("probe/names/no-server", zone=seen.zone or seen.host)
        case NameState.UNKNOWN:
            return say("probe/names/unknown")


def page_words(page: SeenPage, titles: Mapping[str, str] | None = None) -> Message:
    """What an address shows, in a line; `titles` are the names of applications for people."""
    if page.trouble is not None:
        return say(page.trouble)
    if page.status is None:
        return say("probe/page/sent-to", end=page.end)
    end = page.end if page.hops else None
    title = say("probe/page/title", title=page.title) if page.title else None
    return say(
        _SHOWN_AS[page.kind], status=page.status, what=(titles or {}).get(page.what, page.what), title=title,
        end=say("probe/page/at", end=end) if end else None,
    )  # fmt: skip
