"""Surveys and the catalogue as text for people."""

from __future__ import annotations

import datetime
from typing import TYPE_CHECKING, Any

from kettlepost.core.names import printable
from kettlepost.core.survey import FoundApplication
from kettlepost.core.words import counted
from kettlepost.render.headers import show_account_head
from kettlepost.render.results import (
    Catalogue,
    CatalogueEntry,
    Recognition,
    SurveyComparisonShown,
    SurveyStored,
    SurveyTaken,
)
from kettlepost.render.screen import STYLES, Screen, Span
from kettlepost.render.sentences import text
from kettlepost.render.tree import branches
from kettlepost.sources.listing import FIND_FORMAT

if TYPE_CHECKING:
    from kettlepost.core.layout import InventoryRow

MOST_TOLD = 20
"""How many of a kind are told one by one of a survey that was just taken; what was stored has all."""
_KIND = 14
_KIND_STYLES = {
    "exposed": STYLES["risk"], "not read": STYLES["risk"], "unread folder": STYLES["risk"], "unknown": STYLES["note"],
    "came": "green", "went": "red", "changed": "yellow",
}  # fmt: skip


def show_taken(screen: Screen, taken: SurveyTaken) -> None:
    """What a survey found, in short: counts, applications, and how much there is to look at."""
    survey, titles, stored = taken
    size = f"{counted(len(survey.folders), 'folder')}, {counted(survey.files, 'file')}, {size_words(survey.bytes)}"
    screen.line((survey.account, "bold"), f"  {size} in {printable(survey.source)}")
    told = {
        "application": [_application_words(found, titles) for found in survey.applications],
        "site": [
            (f"{site.kind} in {site.folder.shown}", f"known by {printable(', '.join(site.evidence))}")
            for site in survey.sites
        ],
        "placeholder": [(printable(page.folder.below(page.file)), text(page.words)) for page in survey.placeholders],
        "not read": [
            (f"the version of {name}", "the pattern of its entry takes too long: [[application]] in kettlepost.toml")
            for name in survey.slow
        ],
        "unread folder": [(folder.folder.shown, text(folder.trouble_words)) for folder in survey.troubles],
    }
    for kind, rows in told.items():
        for what, why in rows[:MOST_TOLD]:
            _labelled(screen, kind, what, (f"  {why}", "dim"))
    more = {kind: len(rows) - MOST_TOLD for kind, rows in told.items() if len(rows) > MOST_TOLD} | {
        "control file": sum(not control.own for control in survey.controls), "exposed file": len(survey.exposed),
        "odd name": len(survey.oddities), "link": sum(not link.own for link in survey.links),
    }  # fmt: skip
    also = [counted(number, f"more {kind}" if kind in told else kind) for kind, number in more.items() if number]
    if also:
        _labelled(screen, "also", f"{', '.join(also)}: kettlepost survey --show {survey.account}")
    for one in survey.later:
        _labelled(screen, "looked at", f"{one.folder.shown} again {one.taken}, the rest {survey.taken}")
    if not survey.contents:
        _labelled(screen, "unknown", "what files say; the source has names and sizes only")
    screen.line((f"stored in {stored}", "dim"), indent=2)


def _application_words(found: FoundApplication, titles: dict[str, str]) -> tuple[str, str]:
    marks = len(found.evidence) + len(found.missing)
    known = f"known by {', '.join(map(printable, found.evidence))} ({len(found.evidence)} of {marks})"
    return f"{found.words(titles.get(found.application, found.application))} in {found.folder.shown}", known


def show_inventory(screen: Screen, shown: SurveyStored) -> None:
    """The account's folders as a tree, with sizes and what is in each; then what deserves a look."""
    account, view = shown
    show_account_head(screen, account)
    size = f"{counted(view.folders, 'folder')}, {counted(view.files, 'file')}, {size_words(view.bytes)}"
    screen.line((f"surveyed {view.taken} in {printable(view.source)}: {size}", "dim"), indent=2)
    for one in view.later:
        screen.line((f"{one.folder.shown} looked at again {one.taken}", "dim"), indent=2)
    screen.blank()
    _show_rows(screen, view.rows)
    if view.remarks:
        screen.blank()
        screen.line(("Deserves a look", "bold"), indent=2)
        for remark in view.remarks:
            _labelled(screen, remark.kind, remark.at, (f"  {text(remark.words)}", ""))


def _show_rows(screen: Screen, rows: list[InventoryRow]) -> None:
    labels = [
        branch + (printable(row.folder.name) or "(home)") for row, branch in zip(rows, branches(rows), strict=True)
    ]
    width = min(max(map(len, labels), default=0), 44)
    heads = f"{'folder':<{width}}  {'files':>9}  {'size':>9}  {'newest':<10}  "
    screen.line((heads + "what is there", "dim"), indent=2)
    for row, label in zip(rows, labels, strict=True):
        day = (
            datetime.datetime.fromtimestamp(row.newest, datetime.UTC).strftime("%Y-%m-%d")
            if 0 < row.newest < 1 << 37
            else "-"
        )
        told = list(map(text, row.holds))
        told += [f"{counted(row.hidden, 'more folder')} inside"] if row.hidden else []
        spans: list[Span] = ["; ".join(told)]
        if not row.reached and row.folder:
            spans = [("no address; " if told else "no address", STYLES["note"]), *spans]
        fixed = f"{label:<{width}}  {row.files:>9,}  {size_words(row.bytes):>9}  {day:<10}"
        screen.labelled(fixed, *spans, indent=2, column=width + 36)


def show_differences(screen: Screen, compared: SurveyComparisonShown) -> None:
    """What came, went and changed, one a line."""
    account, since, until, found = compared
    screen.line((account, "bold"), f"  from {since} to {until}")
    for difference in found:
        _labelled(
            screen,
            difference.change,
            f"{difference.kind} {difference.at}",
            (f"  {text(difference.words)}" if difference.words else "", ""),
        )
    if not found:
        screen.line("nothing came, went or changed", indent=2)


def show_applications(screen: Screen, catalogue: Catalogue) -> None:
    """The catalogue, one entry a line, by what they are for."""
    known = sorted(catalogue.applications, key=lambda entry: (entry.purpose or "~", entry.id))
    rows, before = [], ""
    for one in known:
        purpose = one.purpose or "other"
        php = one.needs.php if one.needs is not None and one.needs.php is not None else "-"
        proved = one.proved if one.proved else "-" if one.is_unproved else "your own entry"
        rows.append((purpose if purpose != before else "", one.id, one.shown, php, proved))
        before = purpose
    screen.columns(("purpose", "id", "title", "PHP", "held against"), rows)
    proved_ones = sum(bool(one.proved) for one in known)
    screen.line(
        (
            f"{counted(len(known), 'application')}, {proved_ones} held against a real release; ",
            "dim",
        ),
        ("what the others find is told with 'perhaps'. 'kettlepost apps ID' tells one in full", "dim"),
    )


def show_application(screen: Screen, entry: CatalogueEntry) -> None:
    """Everything an entry says."""
    known, own = entry
    screen.line((known.shown, "bold"), f"  {known.id}", (", from kettlepost.toml" if own else ", built in", "dim"))
    config = known.config
    keys = [
        f"{field} from {getattr(config, field)}"
        for field in ("name", "user", "host", "prefix")
        if getattr(config, field, None)
    ]
    told: list[tuple[str, Any]] = [
        ("purpose", known.purpose),
        ("held against", known.proved or ("no real release yet" if known.is_unproved else None)),
        ("has all of", known.all_of),
        ("and, when whole", known.parts),
        ("has one of", known.any_of),
        ("has none of", known.none_of),
        ("version in", f"{known.version.file}, {known.version.pattern}" if known.version else None),
        ("index files", known.index_files),
        ("own folders", known.folders),
        ("answers", "every path below it" if known.answers_below else "its own files"),
        ("first segments", known.segments),
        ("administration", known.admin),
        ("configuration", config.file if config else None),
        ("database", ", ".join(keys) or ("wanted" if known.database else "none")),
        ("needs PHP", known.needs.php if known.needs else None),
        ("and one of", known.needs.database if known.needs else None),
        ("document root", known.document_root),
        ("installer", "wants a folder that does not exist yet" if known.wants_new_folder else None),
        ("to remove then", known.leftovers),
        ("front file", known.front_file),
    ]
    for label, value in told:
        if value:
            words = ", ".join(value) if isinstance(value, list) else str(value)
            screen.labelled((label, "dim"), words, indent=2, column=16)


def show_trial(screen: Screen, recognition: Recognition) -> None:
    """What a folder is taken for, and how the other entries fare there."""
    trial, titles = recognition
    screen.line((printable(trial.folder), "bold"))
    top = [found for found in trial.applications if not found.folder]
    for found in trial.applications:
        where = "is" if not found.folder else f"{found.folder.shown} is"
        screen.line(f"{where} ", (found.words(titles.get(found.application, found.application)), "bold"), indent=2)
        _labelled(screen, "  known by", ", ".join(map(printable, found.evidence)))
        if found.missing:
            _labelled(screen, "  lacks", ", ".join(found.missing))
        if found.version_file:
            _labelled(screen, "  version", f"{printable(found.version)}, read in {found.version_file}")
    for site in trial.sites:
        screen.line(f"{site.folder.shown} is a {site.kind}, by {printable(', '.join(site.evidence))}", indent=2)
    for page in trial.placeholders:
        screen.line(f"{printable(page.folder.below(page.file))} holds the place: {printable(page.because)}", indent=2)
    if not (trial.applications or trial.sites or trial.placeholders):
        screen.line("is nothing that the catalogue knows", indent=2)
    taken = {found.application for found in top}
    rivals = [rival for rival in trial.rivals if rival.application not in taken]
    if rivals:
        screen.line(("why not", "bold"), indent=2)
    for rival in rivals[:8]:
        reasons = [f"has {', '.join(rival.evidence)}"]
        reasons += [f"lacks {', '.join(rival.missing)}"] if rival.missing else []
        reasons += [f"must not have {', '.join(rival.against)}"] if rival.against else []
        reasons += ["is less particular"] if not rival.missing and not rival.against else []
        _labelled(screen, rival.application, "; ".join(reasons))


def size_words(size: float) -> str:
    """A number of bytes for people, in powers of 1000 (IEC 80000-13): `12.3 MB`."""
    for unit in ("B", "kB", "MB", "GB"):
        if size < 1000:
            return f"{size:,.0f} {unit}" if unit == "B" else f"{size:,.1f} {unit}"
        size /= 1000
    return f"{size:,.1f} TB"


def _labelled(screen: Screen, label: str, *spans: Span) -> None:
    screen.labelled((label, _KIND_STYLES.get(label, "dim")), *spans, indent=2, column=_KIND)


HOW_TO = f"""\
Survey a host on which you can run one command but not Kettlepost.

With GNU find (most Linux hosts), in the account's home folder:

    find . -printf '{FIND_FORMAT}' > kettlepost-listing.txt

Without it:

    LC_ALL=C ls -lAR > kettlepost-listing.txt

Fetch the file, then:

    kettlepost survey ACCOUNT --from kettlepost-listing.txt

A listing has names, sizes and times, and no contents: placeholder pages, versions, control
files and databases are then said to be unknown. With an archive of the home, or over SFTP or
FTP, they are known too:

    kettlepost survey ACCOUNT --from home.tar.gz
    kettlepost survey ACCOUNT --from sftp://user@host/path
    kettlepost survey ACCOUNT --from ftps://user@host/path

A name that holds a line end can only be told in the first form.
"""
