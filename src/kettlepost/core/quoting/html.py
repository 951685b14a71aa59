"""HTML and XML, in elements and in quoted attributes."""

from __future__ import annotations

import html

from kettlepost.core.quoting.language import Code
from kettlepost.core.quoting.text import plain


class Html(Code):
    """Text of a page in HTML."""

    __slots__ = ()


def text(words: str) -> Html:
    """Text for an element or a quoted attribute."""
    return Html(html.escape(plain(words), quote=True))
