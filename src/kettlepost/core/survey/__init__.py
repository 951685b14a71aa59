"""What is there: walking an account's folders, recognising what they hold, storing what was found."""

from kettlepost.core.survey.comparing import Difference, compare
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
from kettlepost.core.survey.sources import LocalFolder, Secrets, Source, open_source
from kettlepost.core.survey.spotting import MOST
from kettlepost.core.survey.storing import (
    decode_survey,
    encode_survey,
    read_survey,
    read_surveys,
    store_survey,
    survey_bytes,
    survey_path,
)
from kettlepost.core.survey.taking import INDEX_NAMES, leads_out, take_survey
from kettlepost.core.survey.trying import Trial, try_folder

__all__ = [
    "INDEX_NAMES",
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
    "LocalFolder",
    "Secrets",
    "Source",
    "Survey",
    "Trial",
    "compare",
    "decode_survey",
    "encode_survey",
    "leads_out",
    "open_source",
    "read_survey",
    "read_surveys",
    "store_survey",
    "survey_bytes",
    "survey_path",
    "take_survey",
    "try_folder",
]
