"""What would be recognised in one folder, and why: for people who write a catalogue entry."""

from __future__ import annotations

from msgspec import Struct, field

from kettlepost.core.survey.listings import Source
from kettlepost.core.survey.observations import Observations
from kettlepost.core.survey.records import FoundApplication, FoundPlaceholder, FoundSite
from kettlepost.core.survey.scanner import Recognisable, Scanner


class Rival(Struct):
    """How one entry fits a folder: what spoke for it, what is missing, what speaks against it."""

    application: str
    evidence: list[str]
    missing: list[str]
    against: list[str]


class RecognitionTrial(Struct):
    """What a folder is taken for, and every entry that has anything there, best first."""

    folder: str
    applications: list[FoundApplication]
    sites: list[FoundSite]
    placeholders: list[FoundPlaceholder]
    rivals: list[Rival] = field(default_factory=list)


def try_source(known: Recognisable, source: Source) -> RecognitionTrial:
    """Judge what a source gives as if it were the folder of an installation.

    Raises OutsideError when it cannot be read.
    """
    noticer, notes = Scanner(known, None), Observations()
    for listing in source.listings(noticer.wanted):
        noticer.see(listing, notes)
    survey = noticer.survey(notes, "", source, "")
    rivals = [
        Rival(match.application.id, match.evidence, match.missing, match.against) for match in noticer.candidates(notes)
    ]
    return RecognitionTrial(source.name, survey.applications, survey.sites, survey.placeholders, rivals)
