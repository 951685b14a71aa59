"""Lines of a control file that send visitors of an old address on, each proven before it is told.

A redirect by the path alone holds beside lines that hand paths on, and before none that send visitors away; where files
that are there are to be spared it has to be rewriting, before all other lines.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from contextlib import suppress
from itertools import islice
from typing import NamedTuple

from kettlepost.core.answering import Requests, SentOn, control_text
from kettlepost.core.errors import InputError
from kettlepost.core.layout import AccountLayout, Mount
from kettlepost.core.moving.promises import KeptHow, address_kept, scheme_of
from kettlepost.core.names import Address, Folder, HostName
from kettlepost.core.plan import Moved
from kettlepost.core.quoting.apache import Apache, in_quotes, word

_REWRITES = re.compile(r"^[ \t]*Rewrite", re.IGNORECASE | re.MULTILINE)
_ASKED = 60
"""So many addresses beside the old one are asked at most, before and after."""


class RedirectLines(NamedTuple):
    """Lines for the control file of a folder: at its beginning, or at its end."""

    folder: Folder
    lines: tuple[str, ...]
    is_first: bool


def redirect_lines(layout: AccountLayout, moved: Moved) -> RedirectLines | None:
    """The first lines by which an old address is surely kept, and with which nothing else answers otherwise.

    None where no control file is obeyed, or none that is known of does.
    """
    mount = layout.hosts.mount(moved.old)
    if mount is None or mount.folder is None or layout.contents is None or not layout.obeys_control_files:
        return None
    place = layout.real(mount.reached(moved.old) or mount.folder)
    holder = next((one for one in (place, *place.above()) if layout.contents.exists(one)), None)
    if holder is None or not (holder == mount.folder or holder.is_inside(mount.folder)):
        return None
    there = _own_text(layout, holder)
    own = without_them(layout, moved, holder, there)
    before = Requests(layout, controls={holder: own}) if own != there else Requests(layout)
    beside = list(_beside(layout, moved, holder))
    answers = [_asked(before, one) for one in beside]
    for found in _candidates(layout, moved, holder, place, own):
        added = "\n".join(found.lines)
        text = f"{added}\n{own}" if found.is_first else f"{own}\n{added}"
        after = Requests(layout, controls={holder: text})
        is_kept = address_kept(layout, moved, after).how in (KeptHow.KEPT, KeptHow.NOWHERE)
        if is_kept and [_asked(after, one) for one in beside] == answers:
            return found
    return None


def _own_text(layout: AccountLayout, folder: Folder) -> str:
    control = layout.contents.htaccess(folder) if layout.contents is not None else None
    return control_text(control.lines) if control is not None else ""


def _asked(requests: Requests, address: Address) -> SentOn:
    mount = requests.layout.hosts.mount(address)
    scheme = "https" if mount is not None and mount.domain.https else "http"
    return requests.sent_on(address, str(address).removeprefix(address.host), scheme)


def _beside(layout: AccountLayout, moved: Moved, holder: Folder) -> Iterator[Address]:
    """Addresses that lead into the folder of a control file, or to what it holds, and are none of the old ones."""
    places = [holder, *holder.above(), *_led_to_inside(layout, holder)]
    found = dict.fromkeys(address for place in places for address in layout.addresses_of(place))
    named = (Address(HostName(one.host.replace("*", "any", 1)), one.path) for one in found)
    asked = (one for address in named for one in (address, address.below("no-such-page.html")))
    return islice((one for one in asked if not _is_old(layout, moved, one)), _ASKED)


def _led_to_inside(layout: AccountLayout, folder: Folder) -> list[Folder]:
    """The folders inside one that somebody holds, or to which an address leads by itself."""
    return [*layout.claimed_inside(folder), *(place for place in layout.mounts if place.is_inside(folder))]


def _is_old(layout: AccountLayout, moved: Moved, address: Address) -> bool:
    """Whether an address is the old one or below it, by any name of its host, and nobody else's."""
    own, other = layout.hosts.mount(moved.old), layout.hosts.mount(address)
    if own is None or other is None or not (own.domain is other.domain or address.host == moved.old.host):
        return False
    path = moved.old.path
    is_below = address.path == path or (moved.below and (not path or address.path.startswith(f"{path}/")))
    stays = [Address(address.host, one) for one in stays_below(layout, moved)]
    return is_below and not any(address.path == one.path or address.path.startswith(f"{one.path}/") for one in stays)


def stays_below(layout: AccountLayout, moved: Moved) -> list[str]:
    """The paths below an old one at which others answer, outermost first; and where it leads to, if that is there."""
    mount, path = layout.hosts.mount(moved.old), moved.old.path
    begin = f"{path}/" if path else ""
    folder = mount.reached(moved.old) if mount is not None else None
    found = set()
    if folder is not None:
        found = {begin + place.relative_to(folder) for place in _led_to_inside(layout, folder)}
    for one in layout.account.installations:
        if one.state != "retired" and one.address.host == moved.old.host and one.address.path.startswith(begin):
            found.add(one.address.path)
    if moved.to.host == moved.old.host and moved.to.path.startswith(begin):
        found.add(moved.to.path)
    found -= {path, ""}
    return sorted(one for one in found if not any(one.startswith(f"{other}/") for other in found))


def without_them(layout: AccountLayout, moved: Moved, holder: Folder, text: str) -> str:
    """What a control file says without the lines that keep an old address, so that they are told the same once they
    are there."""
    own = lines_of_promise(layout, moved, holder, text)
    return "\n".join(line for number, line in enumerate(text.split("\n"), 1) if number not in own)


def lines_of_promise(layout: AccountLayout, moved: Moved, holder: Folder, text: str) -> set[int]:
    """The numbers of the lines of a control file, from 1, that keep an old address as it is told here."""
    mount = layout.hosts.mount(moved.old)
    lines, found = text.split("\n"), set[int]()
    with suppress(InputError):
        place = layout.real(mount.reached(moved.old) or holder) if mount is not None else holder
        for block in sorted(_variants(layout, moved, holder, place), key=len, reverse=True):
            starts = (n for n in range(len(lines)) if tuple(lines[n : n + len(block)]) == block)
            at = next((n for n in starts if n + 1 not in found), None)
            if at is not None:
                found.update(range(at + 1, at + 1 + len(block)))
    return found


def _variants(layout: AccountLayout, moved: Moved, holder: Folder, place: Folder) -> list[tuple[str, ...]]:
    """The lines that may do: by the path alone, the same beside rewriting that is off, and by rewriting."""
    plain, rewriting = _matching(layout, moved, holder), _rewriting(layout, moved, holder, place)
    by_rewriting = (*rewriting, *_without_slash(layout, moved, holder, place))
    return [tuple(plain), ("RewriteEngine Off", *plain), by_rewriting]


def _candidates(
    layout: AccountLayout, moved: Moved, holder: Folder, place: Folder, own: str
) -> Iterator[RedirectLines]:
    """Lines that may do, the plainest first."""
    with suppress(InputError):
        plain, off, rewriting = _variants(layout, moved, holder, place)
        rewrites = bool(_REWRITES.search(own))
        is_bare = holder == place and _is_bare(layout, place)
        if holder != place or is_bare or not moved.below:
            yield RedirectLines(holder, plain, is_first=False)
        if is_bare and not rewrites and moved.below:
            yield RedirectLines(holder, off, is_first=False)
        above = any(_REWRITES.search(_own_text(layout, one)) for one in holder.above())
        if rewrites or not above:  # rewriting that begins here ends what is rewritten from above, for others as well
            yield RedirectLines(holder, rewriting, is_first=True)


def _is_bare(layout: AccountLayout, place: Folder) -> bool:
    """Whether nothing lies in a folder that visitors could be shown, but control files and what others hold."""
    there = layout.contents.folders.get(place) if layout.contents is not None else None
    return there is not None and there.files <= len(there.control)


def _target(layout: AccountLayout, moved: Moved) -> str:
    scheme = scheme_of(layout, moved.to)
    target = f"{scheme}://{moved.to.host}/{moved.to.path}"  # a server encodes what it sends
    if re.search(r'[$%\\"?#]', target):
        raise InputError("an address with signs that stand for others in a redirect")
    return target.rstrip("/")


def _is_folder(layout: AccountLayout, address: Address) -> bool:
    """Whether an address is that of a folder, which a server would send on to itself with a slash."""
    place = layout.reach(address)
    contents = layout.contents
    return not address.path or (place is not None and contents is not None and contents.exists(place))


def _hosts(layout: AccountLayout, moved: Moved, holder: Folder) -> list[HostName]:
    """The names for which alone the lines are to hold; none where all that lead there are of the old address."""
    mount = layout.hosts.mount(moved.old)
    if mount is None:
        return []
    places = (holder, *holder.above(), *_led_to_inside(layout, holder))
    names = {one.address.host for place in places for one in layout.mounts.get(place, ())}
    own = {name for name in names if _is_own(layout.hosts.mount(Address(name, moved.old.path)), mount)}
    return sorted({*own, moved.old.host}) if names - own else []


def _is_own(other: Mount | None, mount: Mount) -> bool:
    return other is not None and other.domain is mount.domain and other.folder == mount.folder


def _matching(layout: AccountLayout, moved: Moved, holder: Folder) -> list[str]:
    """A redirect by the path alone."""
    target, path = _target(layout, moved), re.escape(moved.old.path)
    if moved.below:
        spared = _spared(one.removeprefix(moved.old.path).strip("/") for one in stays_below(layout, moved))
        begin = f"^/{path}(?!/{spared})(?:/(.*))?$" if path and spared else f"^/{path}(?:/(.*))?$"
        pattern = begin if path else f"^/(?!{spared})(.*)$" if spared else "^/(.*)$"
        goes = f"{target}/$1"
    else:
        pattern, goes = f"^/{path}/?$" if path else "^/$", f"{target}/" if _is_folder(layout, moved.to) else target
    line = Apache.of(
        "RedirectMatch «status» «pattern» «goes»",
        status=word("301" if moved.permanent else "302"), pattern=in_quotes(pattern), goes=in_quotes(goes),
    )  # fmt: skip
    hosts = _hosts(layout, moved, holder)
    asked = " || ".join(f"%{{HTTP_HOST}} == '{host}'" for host in hosts if "*" not in host)
    return [f'<If "{asked}">', str(line), "</If>"] if asked else [str(line)]


def _spared(paths: Iterable[str]) -> str:
    each = "|".join(re.escape(one) for one in paths)
    return f"(?:{each})(?:/|$)" if each else ""


def _rewriting(layout: AccountLayout, moved: Moved, holder: Folder, place: Folder) -> list[str]:
    """The same by rewriting; files and folders that are there stay, but for the old one itself."""
    target, rest = _target(layout, moved), re.escape(place.relative_to(holder))
    flags = f"[R={301 if moved.permanent else 302},L]"
    names = "|".join(re.escape(host) for host in _hosts(layout, moved, holder) if "*" not in host)
    host = [f"RewriteCond %{{HTTP_HOST}} ^(?:{names})(?::[0-9]+)?$ [NC]"] if names else []
    if moved.old.path:  # other addresses may lead to the same folder
        begins = Apache.of(
            "RewriteCond %{REQUEST_URI} «begins»", begins=in_quotes(f"^/{re.escape(moved.old.path)}(?:/|$)")
        )
        host.append(str(begins))
    to = f"{target}/" if moved.below or _is_folder(layout, moved.to) else target
    lines = ["RewriteEngine On", *host, _rule(f"^{rest}/?$" if rest else "^$", to, flags)]
    if moved.below:
        spared = _spared(one.removeprefix(moved.old.path).strip("/") for one in stays_below(layout, moved))
        begin = f"{rest}/" if rest else ""
        lines += [*host, "RewriteCond %{REQUEST_FILENAME} !-f", "RewriteCond %{REQUEST_FILENAME} !-d"]
        lines.append(_rule(f"^{begin}(?!{spared})(.*)$" if spared else f"^{begin}(.*)$", f"{target}/$1", flags))
    return lines


def _rule(pattern: str, goes: str, flags: str) -> str:
    written = Apache.of("RewriteRule «pattern» «goes» ", pattern=in_quotes(pattern), goes=in_quotes(goes))
    return f"{written}{flags}"


def _without_slash(layout: AccountLayout, moved: Moved, holder: Folder, place: Folder) -> list[str]:
    """What sends on who asks for the old folder without the slash at its end, of whom rewriting in it does nothing."""
    if holder != place or not moved.old.path:
        return []
    bare = Moved(moved.old, moved.to, below=False, permanent=moved.permanent)
    lines = _matching(layout, bare, holder)
    return [line.replace("/?$", "$") for line in lines]
