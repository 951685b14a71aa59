"""Findings as SARIF 2.1.0 (OASIS), which code hosting sites and editors show beside the lines."""

from __future__ import annotations

import hashlib
from typing import Any
from urllib.parse import quote

import msgspec

from kettlepost import __version__
from kettlepost.core.checking import Checked
from kettlepost.core.rules import Finding, Party, rules
from kettlepost.render import gate
from kettlepost.render.sentences import text
from kettlepost.render.text import way_words

_LEVELS = {"stop": "error", "risk": "warning", "note": "note"}


def check_sarif(checked: Checked) -> str:
    """One run, with every rule described and every finding as a result."""
    known = rules()
    index = {rule.slug: n for n, rule in enumerate(known)}
    driver = {
        "name": "Kettlepost",
        "version": __version__,
        "rules": [
            {
                "id": rule.slug,
                "shortDescription": {"text": rule.summary},
                "fullDescription": {"text": rule.text.partition("\n\nBad:\n")[0]},
                "defaultConfiguration": {"level": _LEVELS[rule.severity]},
            }
            for rule in known
        ],
    }
    run = {
        "tool": {"driver": driver},
        "columnKind": "unicodeCodePoints",
        "results": [_result(found, index[found.rule]) for found in checked.findings],
    }
    document = {"$schema": _SCHEMA, "version": "2.1.0", "runs": [run]}
    return msgspec.json.format(msgspec.json.encode(document), indent=2).decode() + "\n"


_SCHEMA = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json"


def _result(found: Finding, index: int) -> dict[str, Any]:
    ways = "".join(f"\n- {way_words(way)}" for way in found.ways_out)
    so = "".join(f"\nSo: {text(follows)}." for follows in found.follows)
    written = [party for party in found.parties if party.file is not None]
    known = hashlib.sha256(f"{found.account} {found.rule} {found.at}".encode("utf-8", "surrogateescape"))
    result: dict[str, Any] = {
        "ruleId": found.rule,
        "ruleIndex": index,
        "level": _LEVELS[found.severity or "stop"],
        "message": {"text": gate.lines(f"{text(found.title)}.\n{text(found.why)}.{so}\nWays out:{ways}")},
        "partialFingerprints": {"finding/v1": known.hexdigest()[:32]},
        "properties": {"account": found.account, "at": gate.plain(found.at), "pending": found.pending},
    }
    if written:
        result["locations"] = [_location(written[0])]
    else:
        result["locations"] = [{"logicalLocations": [{"name": gate.plain(found.at), "kind": "resource"}]}]
    if written[1:]:
        result["relatedLocations"] = [
            {"id": n, **_location(party), "message": {"text": gate.plain(f"{party.what} {party.name}")}}
            for n, party in enumerate(written[1:], 1)
        ]
    return result


def _location(party: Party) -> dict[str, Any]:
    place = {"artifactLocation": {"uri": quote(party.file or "")}, "region": {"startLine": party.line or 1}}
    return {"physicalLocation": place}
