"""One way from a question (address, moment, visitor, scheme, method) to the facts of its answer."""

from kettlepost.core.answering.answers import Answers, Brief, answer, answer_at, standing_in
from kettlepost.core.answering.endings import ExpectedPage, expected_page
from kettlepost.core.answering.facts import Answer, Certainty, Detail, Doubt, Shown
from kettlepost.core.answering.registers import (
    AccountRow,
    DomainRow,
    InstallRow,
    account_row,
    domain_rows,
    install_rows,
)
from kettlepost.core.answering.requests import Requests, SentOn, controlled
from kettlepost.core.answering.serving import Request, control_text
from kettlepost.core.answering.views import (
    AddressRow,
    FolderRow,
    FolderView,
    WhereView,
    by_address,
    by_folder,
    where,
    where_folder,
)
from kettlepost.core.answering.wording import answer_words, doubt_words, reasons, shown_words

__all__ = [
    "AccountRow",
    "AddressRow",
    "Answer",
    "Answers",
    "Brief",
    "Certainty",
    "Detail",
    "DomainRow",
    "Doubt",
    "ExpectedPage",
    "FolderRow",
    "FolderView",
    "InstallRow",
    "Request",
    "Requests",
    "SentOn",
    "Shown",
    "WhereView",
    "account_row",
    "answer",
    "answer_at",
    "answer_words",
    "by_address",
    "by_folder",
    "control_text",
    "controlled",
    "domain_rows",
    "doubt_words",
    "expected_page",
    "install_rows",
    "reasons",
    "shown_words",
    "standing_in",
    "where",
    "where_folder",
]
