"""What is there: listings of folders made into a survey, recognising what they hold, the survey as text."""

from kettlepost.core.survey.comparing import Difference, compare
from kettlepost.core.survey.listings import HEAD, Listing, Reading, Source, Wanted
from kettlepost.core.survey.placeholders import PlaceholderFile, PlaceholderMark
from kettlepost.core.survey.records import (
    Effect,
    FoundApplication,
    FoundControl,
    FoundDatabase,
    FoundExposed,
    FoundFolder,
    FoundLink,
    FoundOddity,
    FoundPlaceholder,
    FoundSite,
    Survey,
)
from kettlepost.core.survey.spotting import MOST
from kettlepost.core.survey.storing import LARGEST_SURVEY, decode_survey, encode_survey, survey_pieces
from kettlepost.core.survey.taking import INDEX_NAMES, Known, leads_out, take_survey
from kettlepost.core.survey.trial import Trial, try_source

__all__ = [
    "HEAD",
    "INDEX_NAMES",
    "LARGEST_SURVEY",
    "MOST",
    "Difference",
    "Effect",
    "FoundApplication",
    "FoundControl",
    "FoundDatabase",
    "FoundExposed",
    "FoundFolder",
    "FoundLink",
    "FoundOddity",
    "FoundPlaceholder",
    "FoundSite",
    "Known",
    "Listing",
    "PlaceholderFile",
    "PlaceholderMark",
    "Reading",
    "Source",
    "Survey",
    "Trial",
    "Wanted",
    "compare",
    "decode_survey",
    "encode_survey",
    "leads_out",
    "survey_pieces",
    "take_survey",
    "try_source",
]
