"""The real thing held against the plan: what is asked of it, what it shows, and where the two differ."""

from kettlepost.core.probing.certificate_verdicts import certificate_faults, certificate_row, covers
from kettlepost.core.probing.name_verdicts import name_row, zone_faults, zone_rows
from kettlepost.core.probing.page_verdicts import PageComparer
from kettlepost.core.probing.pages import LONGEST_PAGE, PageJudge, Received, SeenContent, kept_out_by_robots
from kettlepost.core.probing.questions import AskedFor, PageQuestion, Questions, questions
from kettlepost.core.probing.verdicts import Blame, ProbeRow, ProbeVerdict, counted_verdicts

__all__ = [
    "LONGEST_PAGE",
    "AskedFor",
    "Blame",
    "PageComparer",
    "PageJudge",
    "PageQuestion",
    "ProbeRow",
    "ProbeVerdict",
    "Questions",
    "Received",
    "SeenContent",
    "certificate_faults",
    "certificate_row",
    "counted_verdicts",
    "covers",
    "kept_out_by_robots",
    "name_row",
    "questions",
    "zone_faults",
    "zone_rows",
]
