"""What is there: walking an account's folders, recognising what they hold, storing what was found."""

from kettlepost.core.survey.records import (
    FoundApplication,
    FoundFolder,
    FoundLink,
    FoundPlaceholder,
    Survey,
)
from kettlepost.core.survey.sources import LocalFolder, open_source
from kettlepost.core.survey.storing import encode_survey, read_survey, read_surveys, store_survey, survey_path
from kettlepost.core.survey.taking import take_survey

__all__ = [
    "FoundApplication",
    "FoundFolder",
    "FoundLink",
    "FoundPlaceholder",
    "LocalFolder",
    "Survey",
    "encode_survey",
    "open_source",
    "read_survey",
    "read_surveys",
    "store_survey",
    "survey_path",
    "take_survey",
]
