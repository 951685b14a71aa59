"""`make recognition`: how well real releases, pages and uploads are recognised; real packages lie in build/debian.

Each release is laid out as somebody uploads it: cut off after a part of it, with a third of it lost, beside
copies of itself under names that people give. Pages are those of the tests, and index pages of packages.
"""

from __future__ import annotations

import os
import random
from collections import Counter
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

import rtoml

from kettlepost.core.survey import FoundApplication, Listing, Survey, Wanted
from kettlepost.core.survey.observations import Observations
from kettlepost.core.survey.scanner import Scanner
from kettlepost.workspace import catalogue

ROOT = Path(__file__).parent.parent
DEBIAN = ROOT / "build" / "debian"
RELEASES = {
    "wordpress": ("wordpress/usr/share/wordpress", "6."),
    "phpmyadmin": ("phpmyadmin/usr/share/phpmyadmin", "5."),
    "roundcube": ("roundcube-core/usr/share/roundcube", "1."),
    "shaarli": ("shaarli/usr/share/shaarli", "0."),
    "cacti": ("cacti/usr/share/cacti/site", "1."),
    "postfixadmin": ("postfixadmin/usr/share/postfixadmin", ""),
    "ttrss": ("tt-rss/usr/share/tt-rss/www", "21"),
    "adminer": ("adminer/usr/share/adminer", "4."),
    "phpldapadmin": ("phpldapadmin/usr/share/phpldapadmin", "1."),
    "horde": ("php-horde/usr/share/horde", "5."),
    "ldapaccountmanager": ("ldap-account-manager/usr/share/ldap-account-manager", "8."),
    "phpsysinfo": ("phpsysinfo/usr/share/phpsysinfo", "3."),
    "zabbix": ("zabbix-frontend-php/usr/share/zabbix", "6."),
    "zoneminder": ("zoneminder/usr/share/zoneminder/www", "1."),
    "simplesamlphp": ("simplesamlphp/usr/share/simplesamlphp", "1."),
    "hoteldruid": ("hoteldruid/usr/share/hoteldruid", ""),
    "redmine": ("redmine/usr/share/redmine", "5."),
}
"""Where a package has a release, and how its version begins; empty where it says none."""
ASIDE = [
    *"""{}_bkp {}-bkp {}.bak {}-2023-04-01 {}_20230401 {}-01.04.2023 old{} {}old {}_old {}.old {}-old old-{} oldsite
    archiv sauvegarde copia kopie {}-disabled {}-off {}~ _{} {}.orig {}-copy {}_save {}-2019 {}_backup backup-{} backup
    bak {}-archive {}-kopie {}-sicherung {}_old2 {}-before-update {}-prev {}_deactivated backups/{} archive/{} trash/{}
    _unused/{} old/{}""".split(),
    "Copy of {}", "{} - Copy", "{} (1)", "{} - Kopie",
]  # fmt: skip
NOT_ASIDE = (
    "conf-2023 save-the-bees back-pain old-mill copyshop backstage altstadt shop forum v2 {}2 {}-dev site2 tickets2025 "
    "archive-of-bees beta"
).split()
CUTS = (0.25, 0.35, 0.45, 0.55, 0.65, 0.75, 0.85, 0.95)


class File(NamedTuple):
    """A file of a release: its folder below the release's, and its name."""

    folder: str
    name: str


def files_of(top: Path) -> list[File]:
    """All files and links of a release, in the order in which a walk meets them."""
    found = []
    for folder, inside, names in os.walk(top):
        inside.sort()
        place = os.path.relpath(folder, top).removeprefix(".")
        links = [name for name in inside if os.path.islink(f"{folder}/{name}")]
        found += [File(place, name) for name in (*sorted(names), *links)]
    return found


class Uploaded:
    """A source of files of a release, each laid out in one or several folders."""

    name, contents = "upload", True

    def __init__(self, top: Path, places: dict[str, list[File]]):
        self._top, self._places = top, places

    def listings(self, wanted: Wanted, below: str = "") -> Iterator[Listing]:  # noqa: ARG002 (it is small)
        listed: dict[str, Listing] = {"": Listing("", [], [])}
        for place, files in self._places.items():
            for file in files:
                folder = f"{place}/{file.folder}".strip("/")
                for above in _with_above(folder):
                    listed.setdefault(above, Listing(above, [], [], heads={}))
                listed[folder].names.append(file.name)
                listed[folder].sizes.append(1)
                reading = wanted.ask(folder, file.name, 1) if wanted.has(file.name) else None
                if reading is not None:
                    try:
                        with (self._top / file.folder / file.name).open("rb") as opened:
                            listed[folder].heads[file.name] = reading(opened)
                    except OSError:
                        pass
        yield from listed.values()


def _with_above(folder: str) -> Iterator[str]:
    while folder:
        yield folder
        folder = folder.rpartition("/")[0]


def surveyed(top: Path, places: dict[str, list[File]]) -> Survey:
    """The survey of files of a release, by the folders they lie in."""
    scanner, notes = Scanner(catalogue.recognised(catalogue.catalogue_alone()), None), Observations()
    source = Uploaded(top, places)
    for listing in source.listings(scanner.wanted):
        scanner.see(listing, notes)
    return scanner.survey(notes, "", source, "")


def found_at(survey: Survey, folder: str) -> FoundApplication | None:
    """The application found in a folder."""
    return next((one for one in survey.applications if one.folder == folder), None)


def cut_uploads(name: str, top: Path) -> Iterator[tuple[str, bool]]:
    """Whether each upload of a release that was cut off, or lost a third, is told as half-finished."""
    files = files_of(top)
    ordered = sorted(files, key=lambda file: f"{file.folder}/{file.name}".lstrip("/"))
    orders = {"listing": ordered, "walk": files, "reverse": ordered[::-1], "walk reversed": files[::-1]}
    for seed in range(2):
        orders[f"random {seed}"] = random.Random(seed).sample(files, len(files))
    for order, some in orders.items():
        for cut in CUTS:
            found = found_at(surveyed(top, {"": some[: int(len(some) * cut)]}), "")
            is_told = found is not None and (found.application, found.condition) == (name, "incomplete")
            yield f"{order} at {cut}", is_told
    for seed in range(5):
        drawn = random.Random(seed)
        found = found_at(surveyed(top, {"": [file for file in files if drawn.random() > 1 / 3]}), "")
        yield f"a third lost {seed}", found is not None and (found.application, found.condition) == (name, "incomplete")


def copies(top: Path) -> Iterator[tuple[str, bool]]:
    """Whether a release beside a copy of itself is told from the copy, by the copy's name."""
    files = files_of(top)
    for written in ASIDE:
        other = written.format("blog")
        survey = surveyed(top, {"blog": files, other: files})
        told = [found_at(survey, folder) for folder in ("blog", other)]
        yield other, [one and one.condition == "copy" for one in told] == [False, True]
    for written in NOT_ASIDE:
        other = written.format("blog")
        told = [found_at(surveyed(top, {"blog": files, other: files}), folder) for folder in ("blog", other)]
        yield f"not {other}", all(one is not None and one.condition != "copy" for one in told)


def there() -> dict[str, Path]:
    """The releases that are at hand."""
    return {name: DEBIAN / path for name, (path, _) in RELEASES.items() if (DEBIAN / path).is_dir()}


def index_pages() -> Iterator[tuple[Path, bytes]]:
    """The index pages of the packages at hand, each once."""
    seen = set()
    for page in sorted([*DEBIAN.rglob("index.html"), *DEBIAN.rglob("index.htm")]):
        if page.is_file() and (raw := page.read_bytes()[: 128 * 1024]) not in seen:
            seen.add(raw)
            yield page, raw


def main() -> None:
    """Print all figures."""
    known = there()
    cuts, aside, wrong = Counter[bool](), Counter[bool](), []
    names = versions = states = 0
    for name, top in known.items():
        whole = surveyed(top, {"": files_of(top)})
        found = found_at(whole, "")
        names += found is not None and found.application == name
        versions += found is not None and found.version.startswith(RELEASES[name][1]) and bool(found.version)
        states += found is not None and found.condition != "incomplete"
        wrong += [f"{name}: a site in {site.folder}" for site in whole.sites]
        results = list(cut_uploads(name, top))
        cuts.update(told for _, told in results)
    for told, right in copies(known["shaarli"]) if "shaarli" in known else ():
        aside[right] += 1
        wrong += [] if right else [f"copy: {told}"]
    pages = rtoml.loads((ROOT / "tests" / "pages.toml").read_text("utf-8"))
    finder = catalogue.placeholder_finder()
    print(f"releases         {names} of {len(known)} by name, {versions} with their version, {states} as whole")
    print(f"cut uploads      {cuts[True]} of {cuts.total()} told as half-finished (goal: 90 %)")
    print(f"copies           {aside[True]} of {aside.total()} told right")
    for apart in ("", "_apart"):
        taken = [(judged := finder.judge(page.encode())) and judged.is_sure for page in pages[f"placeholder{apart}"]]
        false = [(judged := finder.judge(page.encode())) and judged.is_sure for page in pages[f"real{apart}"]]
        right = sum(map(bool, taken))
        print(
            f"pages{apart:<12}recall {right / len(taken):.3f} of {len(taken)}, "
            f"precision {right / (right + sum(map(bool, false))):.3f} with {len(false)} of somebody's own"
        )
    judged_pages = [(page, finder.judge(raw)) for page, raw in index_pages()]
    told_kinds = Counter(judged.kind for _, judged in judged_pages if judged is not None and judged.is_sure)
    print(f"index pages      {len(judged_pages)} of packages: {dict(told_kinds)} placeholders")
    for line in wrong:
        print(f"wrong            {line}")


if __name__ == "__main__":
    main()
