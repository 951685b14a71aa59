"""Characters of addresses as servers write them into redirects: as codes of RFC 3986 section 2.1, each by itself."""

from __future__ import annotations

import re

_APACHE = re.compile(rb"[^A-Za-z0-9$\-_.+!*'(),:;@&=/~]")
_NGINX = re.compile(rb"[\x00-\x20\"#%<>?\\^`{|}\x7f-\xff]")
_NGINX_ARGUMENT = re.compile(rb"[\x00-\x20\"#%&+;<>?\\^`{|}\x7f-\xff]")
_TARGET = re.compile(r"([^?#]*)(.*)", re.DOTALL)
_CODE = re.compile(r"%([0-9A-Fa-f]{2})")


def _escaped(characters: re.Pattern[bytes], text: str, form: str) -> str:
    raw = text.encode("utf-8", "surrogateescape")
    return characters.sub(lambda match: (form % match[0][0]).encode(), raw).decode("utf-8", "surrogateescape")


def apache_path(text: str) -> str:
    """A path as Apache writes it (`ap_escape_uri`)."""
    return _escaped(_APACHE, text, "%%%02x")


def apache_target(text: str) -> str:
    """Where a redirect of mod_alias leads: what stands before its query or fragment as a path, those as they are."""
    match = _TARGET.fullmatch(text)
    return apache_path(match[1]) + match[2] if match is not None else text


def nginx_path(text: str) -> str:
    """A path as nginx writes it (NGX_ESCAPE_URI)."""
    return _escaped(_NGINX, text, "%%%02X")


def nginx_argument(text: str) -> str:
    """What a pattern of nginx took, as it is put into a query or a redirect (NGX_ESCAPE_ARGS)."""
    return _escaped(_NGINX_ARGUMENT, text, "%%%02X")


def nginx_redirect(text: str) -> str:
    """The path of a redirect of nginx: what can be printed is written out, up to a query (NGX_UNESCAPE_REDIRECT)."""
    told, at = [], 0
    for match in _CODE.finditer(text):
        code = int(match[1], 16)
        told.append(text[at : match.start()])
        if "?" in told[-1]:
            return "".join(told) + text[match.start() :]
        told.append(chr(code) if 0x25 < code < 0x7F else match[0])
        at = match.end()
        if code == 0x3F:
            break
    return "".join(told) + text[at:]


def back_reference(text: str, only: str, but: str, spaces_as_codes: bool, controls_only: bool) -> str:
    """A group as the flag B of mod_rewrite writes it: all but letters, digits and the underscore as codes.

    `only` are the characters that are written so, if not all are, `but` those that are not, `controls_only` says that
    nothing but blanks and control characters is. A space is a plus sign, or a code where `spaces_as_codes`.
    """
    told = []
    for code in text.encode("utf-8", "surrogateescape"):
        sign = chr(code)
        is_chosen = (code <= 0x20 or code == 0x7F if controls_only else not only) or sign in only
        if not is_chosen or sign in but or code == 0x5F or (sign.isalnum() and code < 0x80):
            told.append(bytes((code,)))
        else:
            told.append(b"+" if code == 0x20 and not spaces_as_codes else b"%%%02x" % code)
    return b"".join(told).decode("utf-8", "surrogateescape")
