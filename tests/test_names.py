"""Host names, folders and addresses: one normal form, and no way round it."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from kettlepost.core.names import (
    HOME,
    Address,
    Folder,
    HostName,
    InvalidName,
    nested_pairs,
    printable,
    readable,
    unprintable,
)

LABELS = st.from_regex(r"[a-z0-9]([a-z0-9-]{0,8}[a-z0-9])?", fullmatch=True)
HOSTS = st.lists(LABELS, min_size=1, max_size=4).map(".".join)
PARTS = st.text(st.characters(exclude_characters="/\0\\", exclude_categories=["Cs"]), min_size=1, max_size=6).filter(
    lambda p: p not in (".", "..")
)
PATHS = st.lists(PARTS, max_size=5).map("/".join)


@given(HOSTS)
def test_a_host_name_is_the_same_however_it_is_written(host: str) -> None:
    for written in (host.upper(), f"{host}.", host.title()):
        assert HostName.parse(written) == HostName.parse(host) == HostName.parse(HostName.parse(host))


@pytest.mark.parametrize(
    ("written", "normal"),
    [
        ("Münzen.Example", "xn--mnzen-kva.example"),
        ("XN--MNZEN-KVA.example.", "xn--mnzen-kva.example"),
        ("*.choir.example", "*.choir.example"),
        ("ＦＵＬＬ.example", "full.example"),
        ("192.0.2.7", "192.0.2.7"),
    ],
)
def test_host_names_beyond_plain_ones(written: str, normal: str) -> None:
    assert HostName.parse(written) == normal


@pytest.mark.parametrize(
    ("written", "shown", "spelt"),
    [
        ("Münzen.example/Läden und mehr", "münzen.example/Läden%20und%20mehr", "muenzen"),
        ("größe.example/a%2525", "größe.example/a%2525", "groesse"),
        ("блоги.example/", "блоги.example/", "xn"),
        ("日本語.example/", "日本語.example/", "xn"),
        ("сосо.example/", "xn--", "xn"),  # Cyrillic, and all of it looks Latin
        ("pаypal.example/", "xn--", "xn"),  # one letter of it is Cyrillic
        ("ɑpple.example/", "xn--", "xn"),
    ],
)
def test_international_names_are_shown_as_people_write_them_where_nobody_is_led_astray(
    written: str, shown: str, spelt: str
) -> None:
    address = Address.parse(written)
    assert readable(str(address)).startswith(shown)
    assert Address.parse(readable(str(address))) == address
    assert address.host.spelt == spelt or (spelt == "xn" and address.host.spelt.isascii())


@given(st.text(st.characters(categories=["Ll", "Nd"]), min_size=1, max_size=12), PATHS)
def test_what_is_shown_is_read_as_the_same(label: str, path: str) -> None:
    try:
        address = Address.parse(f"{label}.example/{path}")
    except InvalidName:
        return
    assert Address.parse(readable(str(address))) == address
    assert address.host.spelt.isascii()


@pytest.mark.parametrize(
    "written",
    ["", ".", "a..b", "-a.example", "a-.example", "a_b.example", "x" * 64 + ".example", "a." * 130 + "example"]
    + ["https://a.example", "a.example/shop", "a.example:80", "xn--zzzzzz.example", "a b", "a\x1b[2J", "é" * 5000],
)
def test_what_is_no_host_name_says_so(written: str) -> None:
    with pytest.raises(InvalidName) as caught:
        HostName.parse(written)
    assert str(caught.value).isprintable()


@given(PATHS)
def test_a_folder_has_one_form(path: str) -> None:
    folder = Folder.stored(printable(path))
    assert folder == path
    assert Folder.parse(f"./{printable(path)}//") == folder
    assert all(folder.is_inside(above) for above in folder.above())
    assert all(above.below(folder.relative_to(above)) == folder for above in folder.above())


@pytest.mark.parametrize("written", ["/srv", "~/www", "..", "www/../../etc", "a\0b", "www\\shop", "\\x2e\\x2e/up"])
def test_no_folder_leads_out_of_the_home(written: str) -> None:
    with pytest.raises(InvalidName):
        Folder.parse(written)


@given(st.binary(max_size=40))
def test_names_of_any_bytes_can_be_written_and_read_back(raw: bytes) -> None:
    name = raw.decode("utf-8", "surrogateescape")
    written = printable(name)
    assert written.isprintable()
    assert unprintable(written) == name


@given(HOSTS, PATHS)
def test_an_address_is_the_same_however_it_is_written(host: str, path: str) -> None:
    address = Address(HostName.parse(host), path)
    for form in (f"https://{host.upper()}./{str(address).partition('/')[2]}", f"{address}?a=b#c", f"http://{address}/"):
        assert Address.parse(form) == address
    assert Address.parse(f"{host}/x/../{str(address).partition('/')[2]}") == address


@pytest.mark.parametrize(
    "written",
    ["", "ftp://a.example", "a.example:8080/", "me@a.example", "a.example/x%2fy", "a.example/%00", "http:///x"],
)
def test_what_is_no_address_says_so(written: str) -> None:
    with pytest.raises(InvalidName):
        Address.parse(written)


@given(st.lists(PATHS.map(Folder), unique=True, max_size=12))
def test_nested_pairs_are_those_a_full_comparison_finds(folders: list[Folder]) -> None:
    inside = {f: [o for o in folders if f.is_inside(o)] for f in folders}
    assert dict(nested_pairs(folders)) == {f: max(outer, key=len) for f, outer in inside.items() if outer}
    assert not HOME.is_inside(HOME)
