"""Old addresses that were promised to stay good: what becomes of them, and the lines that keep them."""

from kettlepost.core.moving.mentions import Mention, Mentioned
from kettlepost.core.moving.promises import (
    AddressKept,
    KeptHow,
    address_kept,
    circle_of,
    onward_promise,
    promised,
    web_address,
)
from kettlepost.core.moving.redirect_lines import (
    RedirectLines,
    lines_of_promise,
    redirect_lines,
    stays_below,
    without_them,
)

__all__ = [
    "AddressKept",
    "KeptHow",
    "Mention",
    "Mentioned",
    "RedirectLines",
    "address_kept",
    "circle_of",
    "lines_of_promise",
    "onward_promise",
    "promised",
    "redirect_lines",
    "stays_below",
    "web_address",
    "without_them",
]
