"""What `where` predicts against what real web servers answer."""

from __future__ import annotations

import os
from pathlib import Path

import pytest

import webservers
from conftest import Work, lacking
from kettlepost.core.layout import Answers, Request, answer
from kettlepost.core.names import Address

SITES = 40
FIRST = (1, 1_000, 5_000)
"""Seeds of first sites; $CONFORMANCE_SEED looks elsewhere, where rare mixes of control files still differ."""


@pytest.mark.proof
@pytest.mark.parametrize("first", [int(os.environ["CONFORMANCE_SEED"])] if "CONFORMANCE_SEED" in os.environ else FIRST)
@pytest.mark.parametrize("server", ["apache", "nginx"])
def test_where_predicts_the_very_file_that_answers(open_folder: Path, server: str, first: int, tmp_path: Path) -> None:
    if not webservers.installed():
        lacking("apache2 or nginx")
    sites = [webservers.random_site(first + n, n, server == "apache") for n in range(SITES)]
    homes = [(site, open_folder / f"home{site.number}") for site in sites]
    work = Work(tmp_path)
    work.homes = open_folder
    for site, home in homes:
        webservers.lay_out(site, home)
        work.account("\n".join(site.tables), f"home{site.number}", settings="").survey(f"home{site.number}")
    layout = work.layout()
    wrong, asked = [], 0
    with getattr(webservers, server)(open_folder, homes) as port:
        for site in sites:
            for host, path in site.asked:
                asked += 1
                asked_for = Request.parse(f"{host}/{path}")
                predicted = answer(layout, asked_for.address, request=asked_for)
                brief = Answers(layout, "now").brief(asked_for)
                assert (brief.answers, brief.words) == (predicted.kind, predicted.words), (brief, predicted)
                really = webservers.ask(port, host, path)
                if really[0] == "redirect":
                    really = ("redirect", str(Address.parse(really[1])).rstrip("/"))
                told = ("nothing", "")
                if predicted.goes is not None:
                    told = ("redirect", str(predicted.goes).rstrip("/"))
                elif predicted.file is not None:
                    told = ("file", str(predicted.file))
                if (
                    told[0] != really[0]
                    or (told[0] != "nothing" and told[1] != really[1])
                    or predicted.kind == "unknown"
                ):
                    wrong.append(f"seed {first + site.number}: {host}/{path}: {really}, not {told}: {predicted.chain}")
    assert asked >= 500
    assert not wrong, f"{len(wrong)} of {asked}:\n" + "\n".join(wrong[:12])
