"""Rules about what is left in folders: pages, control files and installers of the site before."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import partial
from itertools import combinations

from kettlepost.core.answering import Requests, control_text
from kettlepost.core.layout import AccountLayout
from kettlepost.core.messages import say, series
from kettlepost.core.names import Address, Folder, printable, unprintable
from kettlepost.core.plan import Installation
from kettlepost.core.rules.consequences import AT_THE_SAME
from kettlepost.core.rules.files import removed
from kettlepost.core.rules.findings import Finding, LazyWays, Party, WayOut
from kettlepost.core.rules.moves import moved_roots, own_subdomain, protects_beside
from kettlepost.core.rules.parties import (
    application_party,
    domain_party,
    installation_party,
    own_index,
    placeholder_party,
)
from kettlepost.core.rules.registry import RuleReach, account_rule
from kettlepost.core.rules.ways_out import accepting, clearing, clearing_folder, lines_in
from kettlepost.core.secrets import MASK
from kettlepost.core.steps import Accept, Decide, EditLine, KeepFile, LookAtFile, Question, Step
from kettlepost.core.survey import CHOOSING_PHP, KEEPING_OUT, Effect, FoundApplication, FoundControl
from kettlepost.core.webserver import carried_lines

_BESIDE = (*CHOOSING_PHP, "shuts out search engines", "adds a file to every page")
"""What decides nothing about which file answers, and who gets it."""
_SENDING = ("redirects some paths", "redirects")
"""What control files do to some paths, which may be others than those of a folder below."""
_OF_SOME = ("rewrites some paths", "redirects some paths", "redirects")
"""What control files do to paths that nobody but they know of."""
_BOTH = ("http", "https")
_HARMLESS = ("redirects to https", "turns rewriting on", "turns rewriting off", "sets PHP's settings",
             "holds the users of a password prompt", *CHOOSING_PHP)  # fmt: skip


@account_rule(
    "placeholder-left",
    "note",
    reaches=RuleReach.FOLDER,
    follows={"folder-occupied": AT_THE_SAME, "folder-exists": AT_THE_SAME, "placeholder-wins": AT_THE_SAME},
)
def placeholder_left(layout: AccountLayout) -> Iterator[Finding]:
    """A placeholder page lies beside an application and does not win, but can be fetched.

    It still says "coming soon" to whoever finds it, search engines list it, and it wins once
    somebody changes the index order. One that the application's own index file replaces
    is gone with the deployment and is not told of.

    Bad:

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example"
        state = "planned"

        # there: www/home.html = "Coming soon"

    Good:

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example"
        state = "planned"

        # there: www/index.php = "Coming soon"

    Ways out:

    - remove it.
    """
    if layout.contents is None or not layout.contents.survey.placeholders:
        return
    for folder, placed in layout.present.items():
        pages = layout.contents.placeholders(folder)
        if not pages:
            continue
        application, order = layout.application(placed[0]), Requests(layout).index_order(folder)
        own = own_index(application, order)
        wins = order[: order.index(own)] if own is not None else order
        left = [page for page in pages if page.file not in wins and page.file not in application.index_files]
        if left:
            names = series((printable(folder.below(page.file)) for page in left), 4)
            yield Finding(
                at=folder.shown,
                title=say(
                    "placeholder-left/title", names=names, application=application.shown, address=placed[0].address
                ),
                why=say("placeholder-left/why"),
                parties=[installation_party(layout.account, placed[0]), *map(placeholder_party, left)],
                ways_out=[
                    WayOut(
                        say("placeholder-left/look-remove", names=names, left=left),
                        remedy=clearing(placed[0]),
                        steps=removed(layout, folder, [page.file for page in left]),
                    )
                ],
            )


@account_rule("index-contest", "risk", reaches=RuleReach.FOLDER, follows={"shared-root": AT_THE_SAME})
def index_contest(layout: AccountLayout) -> Iterator[Finding]:
    """Two real index files lie in one folder: one wins, the other is never seen.

    It happens when a site is replaced and the old front page stays, or a saved page is uploaded
    beside an application. Which one wins is up to the server's order.

    Bad:

        # there: www/index.html = "<h1>Trains</h1> <p>Trains run on the first Sunday of the month, from ten to four."
        # there: www/index.php = "<?php echo 'The railway is closed in winter, and opens again at Easter.';"

    Good:

        # there: www/index.php = "<?php echo 'The railway is closed in winter, and opens again at Easter.';"

    Ways out:

    - remove or rename the one that is not wanted;
    - name the one that is wanted in a DirectoryIndex line.
    """
    if layout.contents is None:
        return
    several = [
        (folder, there)
        for folder in dict.fromkeys((*layout.roots, *layout.standing))
        if (there := layout.contents.folders.get(folder)) is not None and len(there.index) > 1
    ]
    requests = Requests(layout) if several else None
    for folder, there in several:
        if any(installation.state == "planned" for installation in layout.present.get(folder, ())):
            continue
        order = requests.index_order(folder)  # type: ignore[union-attr]
        holding = {page.file for page in layout.contents.placeholders(folder)}
        real = [name for name in order if name in there.index and name not in holding]
        if len(real) < 2 or any(name in holding for name in order[: order.index(real[0])] if name in there.index):
            continue
        found = layout.contents.applications.get(folder)
        known = layout.plan.applications.get(found.application) if found is not None else None
        if known is not None and set(real) <= set(known.index_files):
            continue
        hidden = (
            say("index-contest/seen", known=known.shown)
            if known is not None and real[0] not in known.index_files
            else ""
        )
        parties = [installation_party(layout.account, installation) for installation in layout.present.get(folder, ())]
        parties = parties or [domain_party(layout.account, domain) for domain in layout.roots.get(folder, ())]
        wanted = Decide(layout.name, Question.WHICH_IS_WANTED, tuple(folder.below(name).shown for name in real))
        yield Finding(
            at=folder.shown,
            title=say("index-contest/title", real=real, folder=folder.shown, shown=real[0]),
            why=say("index-contest/why", real=real[1:], hidden=hidden),
            parties=parties,
            ways_out=[
                WayOut(
                    say("index-contest/look-both-keep", folder=printable(folder.below(real[0])), real=real[1:]),
                    steps=[wanted, *(KeepFile(layout.name, folder, name) for name in real)],
                ),
                WayOut(
                    say("index-contest/write-directoryindex-one", folder=printable(folder.below(".htaccess"))),
                    steps=[wanted],
                ),
            ],
        )


@account_rule("stale-control-file", "risk", reaches=RuleReach.FOLDER)
def stale_control_file(layout: AccountLayout) -> Iterator[Finding]:
    """A control file of the last site lies in a planned installation's folder.

    It is hidden, most programs do not show it, and it goes on taking effect: it asks for a
    password, or sends every path to a file that is gone. Lines that choose PHP are the host's, and
    what only takes back what a control file above says is wanted; neither is told.

    Bad:

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example"
        state = "planned"

        # there: www/.htaccess = "DirectoryIndex start.html"

    Good:

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example"
        state = "planned"

        # there: www/.htaccess = "# nothing here"

    Ways out:

    - keep a copy of it and remove it before deploying;
    - keep only the lines that the new application needs; what keeps visitors out, or chooses PHP, stays.
    """
    if layout.contents is None:
        return
    if not layout.planned or not layout.contents.survey.controls:
        return
    requests = Requests(layout)
    for folder, installation in layout.planned:
        controls = stale_controls(layout, folder, requests, with_needed=True)
        if not controls:
            continue
        needed = [file for file in layout.contents.needed_controls(folder) if file in controls]
        files = [printable(folder.below(file)) for file in controls]
        yield Finding(
            at=folder.shown,
            title=say("stale-control-file/title", files=files, application=installation.application),
            why=say("stale-control-file/why", values=(words for told in controls.values() for words in told)),
            parties=[
                installation_party(layout.account, installation),
                *(
                    Party("control file", file, found=series(told))
                    for file, told in zip(files, controls.values(), strict=True)
                ),
            ],
            ways_out=_without_stale(layout, folder, installation, controls, needed),
        )


def _without_stale(
    layout: AccountLayout, folder: Folder, installation: Installation, controls: dict[str, list[str]],
    needed: list[str],
) -> list[WayOut]:  # fmt: skip
    """Ways out for control files of the last site; what keeps visitors out or chooses PHP is looked at, and stays."""
    files = [printable(folder.below(file)) for file in controls]
    looks = [LookAtFile(layout.name, folder, file, series(told)) for file, told in controls.items()]
    keep = WayOut(say("without-stale/keep-only-lines"), steps=looks)
    if not needed:
        gone = WayOut(
            say("without-stale/keep-copy-remove", files=files),
            remedy=clearing(installation), steps=removed(layout, folder, list(controls))
        )  # fmt: skip
        return [gone, keep]
    names = series(printable(folder.below(file)) for file in needed)
    words = say("without-stale/look-keeps-visitors", names=names)
    accepted = Accept(layout.name, "stale-control-file", folder.shown)
    meant = WayOut(say("without-stale/all-meant-new"),
        remedy=accepting(accepted.rule, accepted.at), steps=[accepted])  # fmt: skip
    looked = WayOut(words, steps=looks)
    thinned = _thinned(layout, folder, needed) if needed == list(controls) else None
    return [thinned, looked, meant] if thinned is not None else [looked, meant]


def _thinned(layout: AccountLayout, folder: Folder, files: Sequence[str]) -> WayOut | None:
    """Taking out of an `.htaccess` all but what keeps visitors out or chooses PHP; None where not all is known."""
    there = layout.contents.controls(folder) if layout.contents is not None else []
    control = next((one for one in there if one.file == ".htaccess"), None)
    if control is None or list(files) != [control.file]:
        return None
    stays = {number for number, _ in carried_lines(control_text(control.lines))}
    parted = (kept.partition(" ") for kept in control.lines)
    told = [(int(number), unprintable(written)) for number, _, written in parted if number.isdecimal()]
    lines = [(number, written) for number, written in told if number and number not in stays]
    # of a section only what has a say is known: the rest of it would hold without the condition around it
    if not lines or not stays or any(MASK in written or written.startswith("<") for _, written in lines):
        return None
    if protects_beside(control, stays):
        return None
    file = printable(folder.below(control.file))
    numbers = series(str(number) for number, _ in lines)
    words = say("thinned/keep-copy-take", file=file, lines=lines, numbers=numbers)
    steps: list[Step] = [KeepFile(layout.name, folder, control.file)]
    steps += [EditLine(layout.name, folder, control.file, number, old) for number, old in reversed(lines)]
    return WayOut(words, steps=steps)


@account_rule("inherited-control", "risk", reaches=RuleReach.FOLDER, follows={"address-swallowed": AT_THE_SAME})
def inherited_control(layout: AccountLayout) -> Iterator[Finding]:
    """A control file in a folder above takes effect in a planned installation, or in a nested root.

    Control files hold for everything below them. What was written for the outer site, a
    password, another index order, a rewrite of every path, holds for the inner one too, and
    nobody finds it in the inner one's folder.

    Bad:

        [[domain]]
        name = "tickets.millbrookrail.example"
        kind = "subdomain"
        root = "www/tickets"

        # there: www/.htaccess = "DirectoryIndex start.html"
        # there: www/tickets/index.html = "The box office opens at two."

    Good:

        [[domain]]
        name = "tickets.millbrookrail.example"
        kind = "subdomain"
        root = "www/tickets"

        # there: www/.htaccess = "DirectoryIndex start.html"
        # there: www/tickets/.htaccess = "DirectoryIndex index.html"
        # there: www/tickets/index.html = "The box office opens at two."

    Ways out:

    - take it back in a control file of the inner folder, by lines that were tried;
    - give the inner one a root outside the folder that holds the control file;
    - if it is meant to hold there as well, as a password often is, accept the finding.
    """
    contents = layout.contents
    if contents is None or not contents.survey.controls:
        return
    requests = Requests(layout)
    concerned: dict[Folder, Installation | None] = dict(layout.planned)
    concerned |= {root: None for root in layout.roots if root not in concerned and _is_nested(layout, root)}
    for folder, installation in concerned.items():
        own = {effect.does.partition(" ")[0] for control in contents.controls(folder) for effect in control.effects}
        felt = [
            (control, effect)
            for above in folder.above()
            for control in contents.controls(above)
            if control.file in (".htaccess", ".user.ini", "php.ini")
            for effect in (*_matter(control), *_chosen(control))
            if not _keeps_addresses(layout, effect)
            and effect.does.partition(" ")[0] not in own
            and "but files" not in effect.does
            and "falls" not in effect.does
        ]
        answering = [effect for _, effect in felt if effect.does not in _BESIDE]
        address = next(iter(layout.addresses_of(folder)), None)
        if answering and address is not None and not requests.differs(address, folder.above(), _BOTH):
            felt = [(control, effect) for control, effect in felt if effect.does in _BESIDE]
        elif address is not None:
            felt = [
                (control, effect)
                for control, effect in felt
                if effect.does not in _SENDING or requests.line_matters(address, control.folder, effect.line, _BOTH)
            ]
        if not felt:
            continue
        controls = {(control.folder, control.file): control for control, _ in felt}
        party = (
            installation_party(layout.account, installation)
            if installation is not None
            else domain_party(layout.account, layout.roots[folder][0])
        )
        yield Finding(
            at=folder.shown,
            title=say(
                "inherited-control/title",
                folder=folder.shown,
                told=(f"{printable(c.folder.below(c.file))} {_told(effect)}" for c, effect in felt),
            ),
            why=say("inherited-control/why", party=party.name),
            parties=[party, *(_control_party(control) for control in controls.values())],
            ways_out=LazyWays(
                partial(_freed, layout, requests, folder, installation, [one for _, one in felt], list(controls))
            ),
        )


_TAKING_BACK = ("RewriteEngine Off", "FallbackResource disabled", "DirectoryIndex {index}", "Require all granted")
"""What in a control file of the inner folder takes back what one above says; the last opens what is kept shut."""


def _freed(
    layout: AccountLayout, requests: Requests, folder: Folder, installation: Installation | None,
    felt: list[Effect], controls: list[tuple[Folder, str]],
) -> list[WayOut]:  # fmt: skip
    """Ways out for what obeys control files above it: a line of its own, another place, or living with it."""
    lines = _lines_back(layout, requests, folder)
    is_kept = any(effect.does in KEEPING_OUT for effect in felt) or "Require all granted" in lines
    file = printable(folder.below(".htaccess"))
    accepted = Accept(layout.name, "inherited-control", folder.shown)
    meant = WayOut(
        say("freed/meant-hold-here"), remedy=accepting(accepted.rule, accepted.at),
        steps=[accepted]
    )  # fmt: skip
    ways = [meant] if is_kept else []
    if lines:
        begin = say("freed/open-everybody") if is_kept else ""
        words = say("freed/take-back", begin=begin, file=file, lines="; then ".join(lines))
        ways.append(WayOut(words, steps=lines_in(layout, folder, lines)))
    if all(place for place, _ in controls):  # in the home, there is no place outside
        own = own_subdomain(layout, installation) if installation is not None else None
        own = own or (moved_roots(layout, layout.roots[folder]) if installation is None else None)
        ways += [own] if own is not None else []
    if not lines:
        says = series(map(_told, felt), 4)
        looks = [LookAtFile(layout.name, place, name, says) for place, name in controls]
        names = series(printable(place.below(name)) for place, name in controls)
        ways.append(WayOut(say("freed/look-see-left", names=names, folder=folder.shown), steps=looks))
    return ways if is_kept else [*ways, meant]


def _lines_back(layout: AccountLayout, requests: Requests, folder: Folder) -> tuple[str, ...]:
    """The fewest lines after which nothing above makes a difference any more, as a server would have it."""
    address = next(iter(layout.addresses_of(folder)), None)
    known = [line.format(index=" ".join(layout.index_files)) for line in _TAKING_BACK]
    for number in (1, 2, 3) if address is not None else ():
        for lines in combinations(known, number):
            if requests.takes_back(address, folder, lines, _BOTH):  # type: ignore[arg-type]
                return lines
    return ()


@account_rule("installer-left", "note", reaches=RuleReach.FOLDER)
def installer_left(layout: AccountLayout) -> Iterator[Finding]:
    """Files of its installer are left in an application that is set up.

    An installer that can be called again may set the site up anew, for somebody else. Files that are
    part of the application, and come back with every update, are none of them.

    Bad:

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example"

        # there: www/shop.php
        # there: www/setup.php
        # there: www/barrow/core.php
        # there: www/barrow/config.php

    Good:

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example"

        # there: www/shop.php
        # there: www/barrow/core.php
        # there: www/barrow/config.php

    Ways out:

    - remove them.
    """
    if layout.contents is None:
        return
    for folder, found in layout.contents.applications.items():
        placed = layout.present.get(Folder(folder), [])
        if not found.leftovers or found.condition:
            continue
        if placed and (placed[0].state != "live" or found.application != placed[0].application):
            continue
        addresses = [placed[0].address] if placed else layout.addresses_of(Folder(folder))
        if addresses:
            yield _installer_left(layout, found, placed[0] if placed else None, addresses[0])


def _installer_left(
    layout: AccountLayout, found: FoundApplication, installation: Installation | None, address: Address
) -> Finding:
    files = [printable(found.base.below(name)) for name in found.leftovers]
    if installation is not None:
        whose, name = installation_party(layout.account, installation), installation.application
    else:
        whose, name = application_party(layout, found), layout.title(found.application)
    return Finding(
        at=found.folder.shown,
        title=say("installer-left/title", files=files, name=name, address=address),
        why=say("installer-left/why"),
        parties=[whose, *(Party("left over", file) for file in files)],
        ways_out=[
            WayOut(
                say("installer-left/remove", files=files),
                remedy=clearing_folder(layout, found.base, "leftovers"),
                steps=removed(layout, found.base, found.leftovers),
            )
        ],
    )


def stale_controls(
    layout: AccountLayout, folder: Folder, requests: Requests | None = None, with_needed: bool = False
) -> dict[str, list[str]]:
    """The control files in a folder that make a difference to what is to come there, with what they do.

    Those that keep visitors out, or choose PHP, stay whatever else they do: they are told of `with_needed` only.
    """
    requests = requests or Requests(layout)
    there = layout.contents.controls(folder) if layout.contents is not None else []
    needed = layout.contents.needed_controls(folder) if layout.contents is not None and not with_needed else ()
    found = [(control, _does(requests, control, folder)) for control in there if control.file not in needed]
    return {control.file: told for control, told in found if told}


def _chosen(control: FoundControl) -> list[Effect]:
    """The lines that choose PHP for the site of a folder, and what lies below; the host's are those in the home."""
    return [effect for effect in control.effects if control.folder and effect.does == "sets the PHP version"]


def _matter(control: FoundControl) -> list[Effect]:
    if control.file == "robots.txt":
        return [effect for effect in control.effects if effect.does == "shuts out search engines"]
    return [effect for effect in control.effects if effect.does not in _HARMLESS]


def _keeps_addresses(layout: AccountLayout, effect: Effect) -> bool:
    """Whether a line sends visitors on to a name of the account: by it the old addresses of what has moved are good."""
    return effect.does == "redirects some paths" and effect.what in layout.account.named


def _does(requests: Requests, control: FoundControl, folder: Folder) -> list[str]:
    """What a control file does to what is to come into its folder, in words.

    Of `.htaccess` that is asked of the server's own way: what makes no difference there is not told, and
    what its lines do beside what they are known for is.
    """
    effects = _matter(control)
    if effects and all(_keeps_addresses(requests.layout, effect) for effect in effects):
        return []
    address = next(iter(requests.layout.addresses_of(folder)), None)
    if control.file == ".htaccess" and address is not None:
        is_secured = any(effect.does == "redirects to https" for effect in control.effects)
        if requests.only_takes_back(address, folder, _BOTH[is_secured:]):
            return []
        if not requests.differs(address, [folder], _BOTH[is_secured:]):
            return [_told(effect) for effect in effects if effect.does in (*_BESIDE, *_OF_SOME)]
        if not any(effect.does not in _BESIDE for effect in effects):
            return [*map(_told, effects), f"changes what is answered at {address}"]
    return [_told(effect) for effect in effects]


def _told(effect: Effect) -> str:
    line = f" (line {effect.line})" if effect.line else ""
    return effect.does + (f": {printable(effect.what)}" if effect.what else "") + line


def _control_party(control: FoundControl) -> Party:
    told = series(_told(effect) for effect in _matter(control))
    return Party("control file", printable(control.folder.below(control.file)), found=told)


def _is_nested(layout: AccountLayout, root: Folder) -> bool:
    return any(above in layout.roots for above in root.above() if above)
