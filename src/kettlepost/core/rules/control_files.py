"""What control files do to addresses: swallow them, break them, leave open what they are to protect."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from kettlepost.core.answering import Requests, controlled
from kettlepost.core.layout import AccountLayout
from kettlepost.core.messages import Message, Words, say, series
from kettlepost.core.names import Address, Folder, printable
from kettlepost.core.plan import Installation
from kettlepost.core.rules.files import removed
from kettlepost.core.rules.findings import Finding, Party, WayOut
from kettlepost.core.rules.moves import own_subdomain
from kettlepost.core.rules.parties import domain_party, installation_party
from kettlepost.core.rules.registry import RuleReach, account_rule, within
from kettlepost.core.rules.ways_out import completing, lines_in
from kettlepost.core.steps import Decide, LookAtFile, Question
from kettlepost.core.webserver import Reply, SourceLine

_HTACCESS = ".htaccess"
_REMEDIES = ("RewriteEngine Off", "Require all granted", "DirectoryIndex {index}", "FallbackResource disabled")
"""What, in a control file of the inner folder, takes back what one above says."""


class _Swallowed(NamedTuple):
    address: Address
    by: SourceLine
    what: Words
    is_main: bool = True


@account_rule("address-swallowed", "stop", "risk", reaches=RuleReach.FOLDER)
def address_swallowed(layout: AccountLayout) -> Iterator[Finding]:
    """A control file above an installation takes its address, or the one at which it is looked after.

    Control files hold for all folders below them: what hands every path to the outer site, denies a
    folder or sends it elsewhere does so for the inner application's address too, which then never
    answers.

    Bad:

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/shop"
        state = "planned"

        # there: www/front.php = "Our own page about geese and ganders, and when they are to be seen."
        # there: www/.htaccess = "RewriteEngine On\\nRewriteRule ^(.*)$ /front.php [L]"

    Good:

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/shop"
        state = "planned"

        # there: www/front.php = "Our own page about geese and ganders, and when they are to be seen."
        # there: www/.htaccess = "RewriteEngine On\\nRewriteCond %{REQUEST_URI} !^/shop\\nRewriteRule ^ /front.php [L]"

    Ways out:

    - take it back in a control file in the application's own folder, where that can be done;
    - leave its address out in the control file above;
    - give it a place that lies in no folder of the other site.
    """
    if layout.contents is None or not layout.contents.survey.controls:
        return
    requests = Requests(layout)
    for folder, placed in layout.standing.items():
        for installation in placed:
            if installation.folder is not None or not requests.may_touch(folder):
                continue
            taken = list(_taken(requests, folder, installation.address, True))
            admin = layout.application(installation).admin
            if admin and requests.is_there(folder.below(admin.strip("/"))):
                taken += _taken(requests, folder, installation.address.below(admin.strip("/")), False)
            if taken:
                yield _swallowed(layout, requests, folder, installation, taken)


def _taken(requests: Requests, folder: Folder, address: Address, is_main: bool) -> Iterator[_Swallowed]:
    """What a control file above `folder` makes of an address that is to lead into it."""
    given = requests.final_reply(address)
    if given is None or given.last is None or not given.reply.is_sure or given.reply.asks_password:
        return
    reply, real = given.last, requests.layout.real
    by = reply.handed or (reply.lines[-1] if reply.lines and reply.status != 404 else None)
    if by is None or not folder.is_inside(real(Folder(by.folder))):
        return
    if given.elsewhere is not None:
        if given.goes is None or requests.layout.reach(given.goes) != requests.layout.reach(address):
            yield _Swallowed(address, by, say("taken/sends-visitors", elsewhere=printable(given.elsewhere)), is_main)
    elif reply.status == 200 and reply.file is not None:
        file = real(Folder(reply.file))
        if not file.is_inside(folder):
            yield _Swallowed(address, by, say("taken/shows-instead", file=file.shown), is_main)
    elif reply.status == 403 and reply.folder is None and requests.is_kept_for_some(address, folder):
        return
    elif reply.status != 200 and (reply.folder is None or is_main):
        yield _Swallowed(address, by, say("taken/answers", status=_status(reply)), is_main)


def _swallowed(
    layout: AccountLayout, requests: Requests, folder: Folder, installation: Installation, taken: list[_Swallowed]
) -> Finding:
    control = printable(Folder(taken[0].by.folder).below(_HTACCESS))
    by_what: dict[Words, list[str]] = {}
    for each in taken:
        by_what.setdefault(each.what, []).append(str(each.address))
    told = series(say("swallowed/what-it-does", addresses=addresses, what=what) for what, addresses in by_what.items())
    by = taken[0].by
    look = LookAtFile(
        layout.name,
        Folder(by.folder),
        _HTACCESS,
        say("swallowed/line-takes", line=by.line, address=installation.address),
    )
    ways = [
        WayOut(
            say("swallowed/leave-out-line", control=control, address=installation.address, line=by.line), steps=[look]
        )
    ]
    index = layout.application(installation).index_files[:1]
    for line in _REMEDIES:
        text = line.format(index="".join(index))
        if not any(_is_taken_with(requests, folder, each, text) for each in taken):
            open_to_all = say("swallowed/open-everybody") if text.startswith("Require") else ""
            words = say(
                "swallowed/write-into", open_to_all=open_to_all, text=text, folder=printable(folder.below(_HTACCESS))
            )
            ways.insert(0, WayOut(words, steps=lines_in(layout, folder, [text])))
            break
    own = own_subdomain(layout, installation)
    words = say("swallowed/give-folder-lies", application=installation.application)
    ways.append(own or WayOut(words, steps=[completing(layout, installation, "address")]))
    return Finding(
        at=folder.shown,
        title=say("swallowed/title", control=control, application=installation.application, told=told),
        why=say("swallowed/why", line=taken[0].by.line, text=printable(taken[0].by.text)),
        parties=[installation_party(layout.account, installation), _party(taken[0].by)],
        ways_out=ways,
        severity="stop" if installation.state == "planned" else "risk",
    )


def _is_taken_with(requests: Requests, folder: Folder, taken: _Swallowed, text: str) -> bool:
    """Whether it would still be taken, were there a control file in the folder that says so."""
    given = requests.final_reply(taken.address, {folder: text})
    if given is not None and given.reply.folder is not None and given.reply.is_sure:
        return taken.is_main  # of a folder inside, which index file it has is not known
    if given is None or given.elsewhere is not None or given.reply.status != 200 or not given.reply.is_sure:
        return True
    file = given.reply.file
    return file is not None and not requests.layout.real(Folder(file)).is_inside(folder)


@account_rule("control-broken", "risk", reaches=RuleReach.FOLDER)
def control_broken(layout: AccountLayout) -> Iterator[Finding]:
    """A control file cannot work where it lies: every page below it ends in an error.

    It hands paths to a file that is not there, as after a move, or the server refuses one of its
    lines, and with it every request for the folder.

    Bad:

        # there: www/news/.htaccess = "RewriteEngine On\\nRewriteCond %{REQUEST_FILENAME} !-f\\nRewriteRule . quill.php"
        # there: www/news/page.txt = "Trains run on the first Sunday of the month."

    Good:

        # there: www/news/.htaccess = "RewriteEngine On\\nRewriteCond %{REQUEST_FILENAME} !-f\\nRewriteRule . quill.php"
        # there: www/news/quill.php = "Trains run on the first Sunday of the month."

    Ways out:

    - name the file that is there now, or put the missing one there;
    - write the line as the server takes it, or take it out.
    """
    if layout.contents is None or not layout.contents.survey.controls:
        return
    requests = Requests(layout)
    for folder in controlled(layout):
        for address in layout.addresses_of(folder)[:1] if requests.may(folder, "hands") else ():
            mount = layout.hosts.mount(Address(address.host))
            root = mount.folder if mount is not None else None
            if root is not None and not requests.may_miss(folder, root):
                continue
            reply = requests.reply(address, f"/{address.path}/no-such-page".replace("//", "/"))
            by = reply.handed or (reply.lines[-1] if reply.lines else None) if reply is not None else None
            if reply is None or not reply.is_sure or by is None or Folder(by.folder) != folder:
                continue
            if reply.status == 500 and reply.handed is not None:
                what = say("control-broken/hands-in-circles", line=by.line)
            elif reply.status == 500:
                what = say("control-broken/line-refused-server", line=by.line)
            elif reply.status == 404 and reply.handed is not None:
                what = say("control-broken/hands-to-nothing", line=by.line)
            else:
                continue
            control = printable(folder.below(_HTACCESS))
            says = say("control-broken/line", line=by.line, is_handed=bool(reply.handed))
            look = LookAtFile(layout.name, folder, _HTACCESS, says)
            words = say("control-broken/name-line-put", line=by.line, control=control)
            if reply.handed is None:
                words = say("control-broken/write-line-server", line=by.line, control=control)
            gone = say("control-broken/nobody-needs-file")
            is_needed = _HTACCESS in layout.contents.needed_controls(folder)
            all_of_it = series(map(str, layout.addresses_of(folder)), 4)
            yield Finding(
                at=folder.shown,
                title=say("control-broken/title", control=control, what=what),
                why=say("control-broken/why", all_of_it=all_of_it, text=printable(by.text)),
                parties=[_party(by)],
                ways_out=[
                    WayOut(words, steps=[look]),
                    *([] if is_needed else [WayOut(gone, steps=removed(layout, folder, [_HTACCESS]))]),
                ],
            )


@account_rule("protection-gap", "risk", reaches=RuleReach.FOLDER)
def protection_gap(layout: AccountLayout) -> Iterator[Finding]:
    """A control file asks for a password, but not for all that lies below it, or not for every request.

    Written within `<Limit GET>` it does not hold for what is sent; a control file further down that
    lets everybody in takes it back for its own folder.

    Bad:

        # there: www/members/.htaccess = "AuthType Basic\\nAuthName members\\nRequire valid-user"
        # there: www/members/list/.htaccess = "Require all granted"
        # there: www/members/list/all.txt = "Who is a member, and where they live."

    Good:

        # there: www/members/.htaccess = "AuthType Basic\\nAuthName members\\nRequire valid-user"
        # there: www/members/list/all.txt = "Who is a member, and where they live."

    Ways out:

    - take out what lets everybody in, or write the password there as well;
    - ask for it outside of <Limit>.
    """
    if layout.contents is None or not layout.contents.survey.controls:
        return
    requests = Requests(layout, "now")
    folders = list(controlled(layout))
    for folder in folders:
        for address in layout.tree("now").addresses_of(folder)[:1] if requests.may(folder, "asks") else ():
            path = f"/{address.path}/".replace("//", "/")
            reply = requests.reply(address, path)
            if reply is None or not reply.asks_password or not reply.is_sure or not _says(reply, folder):
                continue
            gaps: list[Words] = []
            sent = requests.reply(address, path, "POST")
            if sent is not None and not sent.asks_password and sent.status != 403 and sent.is_sure:
                gaps.append(say("protection-gap/sent-post"))
            for inner in folders:
                if inner.is_inside(folder):
                    below = requests.reply(address, f"{path}{inner.relative_to(folder)}/")
                    if below is not None and _is_open(below):
                        gaps.append(inner.shown)
            if gaps:
                yield _gap(layout, folder, gaps)


def _is_open(reply: Reply) -> bool:
    """Whether a reply shows what is there, or would if there were an index file."""
    return reply.is_sure and (reply.status in (200, 404) or reply.folder is not None)


def _gap(layout: AccountLayout, folder: Folder, gaps: list[Words]) -> Finding:
    control = printable(folder.below(_HTACCESS))
    return Finding(
        at=folder.shown,
        title=say("gap/title", control=control, gaps=gaps),
        why=say("gap/why"),
        parties=[Party("control file", control, found=say("party/seen"))],
        ways_out=[
            WayOut(
                say("gap/see-nothing-below", control=control),
                steps=[Decide(layout.name, Question.WHAT_LETS_IN, (folder.shown, *gaps))],
            )
        ],
    )


@within("redirect-loop", RuleReach.HOST | RuleReach.FOLDER)
def redirect_loop_by_control(layout: AccountLayout) -> Iterator[Finding]:
    """The part of it that goes through control files."""
    if layout.contents is None or not layout.contents.survey.controls:
        return
    requests = Requests(layout)
    told: set[frozenset[str]] = set()
    for mounts in layout.hosts.values():
        for mount in mounts:
            if mount.address.host[0] == "*" or mount.way is None or not requests.may_send(mount.way):
                continue
            circle = requests.circle(mount.address)
            lines = list(dict.fromkeys(reply.lines[-1] for _, reply in circle if reply is not None and reply.lines))
            steps = frozenset(step for step, _ in circle)
            if not lines or steps in told:
                continue
            told.add(steps)
            control = printable(Folder(lines[0].folder).below(_HTACCESS))
            yield Finding(
                at=str(mount.address),
                title=say("redirect-loop/title", address=mount.address, circle=(step for step, _ in circle)),
                why=say("redirect-loop/why", line=lines[0].line, control=control),
                parties=[domain_party(layout.account, mount.domain), *map(_party, lines)],
                ways_out=[
                    WayOut(
                        say("redirect-loop/take-line-out", line=lines[0].line, control=control),
                        steps=[LookAtFile(layout.name, Folder(lines[0].folder), _HTACCESS, _sends_back(lines[0]))],
                    ),
                    WayOut(
                        say("redirect-loop/change-host-name"),
                        steps=[Decide(layout.name, Question.WHICH_NAME, (str(mount.address.host),))],
                    ),
                ],
            )


def _sends_back(source_line: SourceLine) -> Words:
    return say("sends-back/line-sends-back", line=source_line.line)


def _says(reply: Reply, folder: Folder) -> bool:
    return any(not line.file and Folder(line.folder) == folder for line in reply.lines)


def _status(reply: Reply) -> Message:
    known = {403: "status/denial", 404: "status/nothing", 410: "status/gone-good"}
    return say(known.get(reply.status, "status/error"), status=reply.status)


def _party(source_line: SourceLine) -> Party:
    return Party(
        "control file",
        printable(Folder(source_line.folder).below(_HTACCESS)),
        found=say("party/line", line=source_line.line),
    )
