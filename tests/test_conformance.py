"""What `where` predicts against what real web servers answer."""

from __future__ import annotations

import os
from http.client import HTTPConnection
from itertools import product
from pathlib import Path

import pytest

import control_files
import webservers
from conftest import Work, lacking
from kettlepost.core.answering import Answers, Request, answer, answer_words, reasons
from kettlepost.core.names import Address
from kettlepost.core.webserver import ServerRequest, Visitor, plain_reply

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
        work.account("\n".join(site.tables), f"home{site.number}", settings=webservers.NO_PHP).survey(
            f"home{site.number}"
        )
    layout = work.layout()
    wrong, asked = [], 0
    with getattr(webservers, server)(open_folder, homes) as port:
        for site in sites:
            for host, path in site.asked:
                asked += 1
                asked_for = Request.parse(f"{host}/{path}")
                predicted = answer(layout, asked_for.address, request=asked_for)
                brief = Answers(layout, "now").brief(asked_for)
                assert (brief.answers, brief.words) == (predicted.kind, answer_words(predicted)), (brief, predicted)
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
                    wrong.append(
                        f"seed {first + site.number}: {host}/{path}: {really}, not {told}: {reasons(predicted)}"
                    )
    assert asked >= 500
    assert not wrong, f"{len(wrong)} of {asked}:\n" + "\n".join(wrong[:12])


@pytest.mark.proof
def test_other_methods_get_the_status_that_nginx_gives(open_folder: Path) -> None:
    if not webservers.installed():
        lacking("apache2 or nginx")
    site, home = webservers.Site(0), open_folder / "home0"
    site.roots, site.fallback = {"a.example": "www", "b.example": "www"}, {"b.example": "/front.html"}
    files = ("index.html", "page.txt", "front.html", "a/x.txt", "b/index.html", ".htaccess")
    site.tree = {f"www/{file}": file for file in files}
    webservers.lay_out(site, home)
    paths = (
        "",
        "page.txt",
        "a",
        "a/",
        "b/",
        "b",
        "nowhere",
        "page.txt/",
        "page.txt/x",
        ".htaccess",
        "%2e%2e/x",
        "x%00",
    )
    wrong, disk = [], control_files.Disk(home)
    with webservers.nginx(open_folder, [(site, home)]) as port:
        for host, method, path in product(site.roots, ("HEAD", "POST", "PUT", "DELETE", "OPTIONS"), paths):
            asked = ServerRequest(host, f"/{path}", "www", home=str(home), visitor=Visitor("127.0.0.1", method))
            connection = HTTPConnection("127.0.0.1", port, timeout=9)
            connection.request(method, f"/{path}", headers={"Host": host})
            told, really = plain_reply(disk, asked, site.fallback.get(host)).status, connection.getresponse().status
            connection.close()
            if told != really:
                wrong.append(f"{method} {host}/{path}: {really}, not {told}")
    assert not wrong, "\n".join(wrong)
