"""Findings as JUnit XML, which build servers show: one suite an account, one case a finding."""

from __future__ import annotations

from xml.etree import ElementTree

from kettlepost.core.checking import Checked
from kettlepost.core.rules import Finding
from kettlepost.render import gate
from kettlepost.render.sentences import text
from kettlepost.render.text import way_words


def check_junit(checked: Checked) -> str:
    """Every finding is a failure, and an account without one a case that passed."""
    top = ElementTree.Element("testsuites", name="kettlepost check")
    failures = 0
    by_account: dict[str, list[Finding]] = {name: [] for name in checked.accounts}
    for found in checked.findings:
        by_account.setdefault(found.account, []).append(found)
    for name, there in by_account.items():
        failures += len(there)
        suite = ElementTree.SubElement(
            top, "testsuite", name=gate.plain(name), tests=str(len(there) or 1), failures=str(len(there))
        )
        for found in there:
            _case(suite, found)
        if not there:
            ElementTree.SubElement(suite, "testcase", classname=name, name="nothing to find")
    tests = sum(len(there) or 1 for there in by_account.values())
    top.attrib |= {"tests": str(tests), "failures": str(failures)}
    ElementTree.indent(top)
    return '<?xml version="1.0" encoding="UTF-8"?>\n' + ElementTree.tostring(top, encoding="unicode") + "\n"


def _case(suite: ElementTree.Element, found: Finding) -> None:
    written = next((party for party in found.parties if party.file is not None), None)
    case = ElementTree.SubElement(
        suite, "testcase", classname=f"{found.account}.{found.rule}", name=gate.plain(f"{found.rule} at {found.at}")
    )
    if written is not None:
        case.attrib |= {"file": gate.plain(written.file or ""), "line": str(written.line)}
    failure = ElementTree.SubElement(
        case, "failure", type=found.severity or "stop", message=gate.plain(text(found.title))
    )
    lines = [text(found.why), *map(text, found.follows)]
    lines += [f"{party.what} {party.name} {text(party.where)}" for party in found.parties]
    lines += [f"way out: {way_words(way)}" for way in found.ways_out]
    failure.text = "\n".join(map(gate.plain, lines))
