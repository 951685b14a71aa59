"""A rehearsal that is to take the place of what it rehearses: what is done, and which data are whose then."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from msgspec.structs import replace

from kettlepost.core.errors import InputError
from kettlepost.core.layout import AccountLayout
from kettlepost.core.messages import Words, say
from kettlepost.core.names import did_you_mean, printable, quoted
from kettlepost.core.placing.ways import MoveBy, MoveWay, MoveWays
from kettlepost.core.plan import ALL_DATA, OTHER_DATA, Application, Installation
from kettlepost.core.rules.going_live import MERGED, GoingLive, has_gone_live, kinds_of, names_tables, taking_its_place
from kettlepost.core.rules.moves import can_move
from kettlepost.core.rules.ways_out import setting

NO_DATA = "none"
"""What is said where what is live keeps nothing."""


def ways_of_rehearsal(
    layout: AccountLayout, rehearsal: Installation, live: Installation, keeps: Sequence[str]
) -> MoveWays:
    """The one way there is: its files and tables, but for the data that what is live `keeps`.

    Raises InputError for data that are no kind of the application's.
    """
    known = layout.application(rehearsal)
    is_merged = layout.account.settings.database_server in MERGED
    kinds = (NO_DATA, *((ALL_DATA, *kinds_of(known)) if is_merged else ()))
    for one in keeps:
        if one not in kinds:
            raise InputError(f"{quoted(one)} is no kind of data of {known.shown}{did_you_mean(one, kinds)}")
    if len(keeps) > 1 and {NO_DATA, ALL_DATA} & {*keeps}:
        raise InputError(f"{NO_DATA} and {ALL_DATA} stand alone")
    kept = [one for one in dict.fromkeys(keeps) if one != NO_DATA]
    going = taking_its_place(layout, replace(rehearsal, live_keeps=kept), live)
    why_not = _no_way(layout, rehearsal, live, going)
    files = MoveWay(MoveBy.FILES, why_not)
    if going is not None and not why_not:
        change = setting(layout, rehearsal, goes_live=True, live_keeps=kept or None)
        files = MoveWay(
            MoveBy.FILES, "", going.to, tuple(_touched(going)), tuple(_breaks(going, known, is_merged)), going.stays,
            (change,), (say("replace/looks", address=rehearsal.address),), say("replace/down"), say("replace/back"),
        )  # fmt: skip
    others = tuple(MoveWay(by, say("replace/by-files")) for by in MoveBy if by is not MoveBy.FILES)
    return MoveWays(
        layout.name, rehearsal.application, rehearsal.address, live.address, layout.lies_now(rehearsal),
        (files, *others), live, kinds,
    )  # fmt: skip


def _no_way(layout: AccountLayout, rehearsal: Installation, live: Installation, going: GoingLive | None) -> Words:
    if going is None:
        return say("replace/unknown")
    applications = layout.contents.applications if layout.contents is not None else {}
    for folder, whose, base in ((going.folder, rehearsal, going.new), (going.to, live, going.old)):
        found = applications.get(folder)
        if found is None or found.application != whose.application:
            return say("replace/not-seen", folder=folder.shown, application=whose.application)
        if names_tables(layout, found, base) is not True:
            return say("replace/otherwise", folder=folder.shown, base=printable(base.name), prefix=quoted(base.prefix))
    if (going.old.name, going.old.prefix) == (going.new.name, going.new.prefix) or has_gone_live(layout, going):
        return say("replace/same-tables")
    if going.to.is_inside(going.folder):
        return say("replace/inside", folder=going.folder.shown, to=going.to.shown)
    needed = layout.contents.needed_controls(going.to) if layout.contents is not None else []
    if needed and (going.stays or going.kept):  # which would be open, or lose its PHP, while that is away
        stays = [one.shown for one in (*going.stays, *going.kept)]
        return say("replace/needed", file=going.to.below(needed[0]).shown, stays=stays)
    return "" if can_move(layout, live) else say("move/others-files", folder=going.to.shown)


def _touched(going: GoingLive) -> Iterator[Words]:
    yield say("replace/files", folder=going.folder.shown, to=going.to.shown)
    yield say("replace/tables", base=printable(going.new.name), prefix=quoted(going.new.prefix))
    if going.keeps:
        yield say("replace/kept", keeps=going.keeps, live=going.live.address)


def _breaks(going: GoingLive, known: Application, is_merged: bool) -> Iterator[Words]:
    """What is lost of what was written since the copy was made, and which data may be kept."""
    if ALL_DATA not in going.keeps:
        yield say("replace/lost" if not going.keeps else "replace/others-lost", live=going.live.address)
    if going.keeps and ALL_DATA not in going.keeps:
        yield say("replace/apart")
    for one in known.data if not going.keeps else ():
        where = [*one.tables, *(f"{folder}/" for folder in one.folders)]
        yield say("replace/kind", name=one.name, where=where)
    if known.data and not going.keeps:
        yield say("replace/other", name=OTHER_DATA)
    if not is_merged:
        yield say("replace/no-merge")
    if not going.kept:
        yield say("replace/uploads", to=going.to.shown)
