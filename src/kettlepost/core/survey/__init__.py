"""What is there: listings of folders made into a survey, recognising what they hold, the survey as text."""

from kettlepost.core.survey.control_files import CHOOSING_PHP, CONTROL_NAMES, KEEPING_OUT, SENDING
from kettlepost.core.survey.databases import (
    LARGEST_DATABASES,
    SeenDatabase,
    SeenDatabases,
    SeenLogin,
    SeenTable,
    SeenTables,
    decode_databases,
    encode_databases,
    grouped,
)
from kettlepost.core.survey.dump import is_listing, read_dump, read_listing
from kettlepost.core.survey.encoding import LARGEST_SURVEY, decode_survey, encode_survey, survey_pieces
from kettlepost.core.survey.file_names import LARGEST_NAMES, FileNames, NamesWriter
from kettlepost.core.survey.listings import HEAD, SET_ASIDE, Listing, Reading, Source, Wanted
from kettlepost.core.survey.name_checks import MOST
from kettlepost.core.survey.outside import (
    LARGEST_OUTSIDE,
    ExternalFacts,
    ObservedCertificate,
    ObservedHost,
    ObservedRecord,
    decode_outside,
    encode_outside,
)
from kettlepost.core.survey.part import is_in, joined, outside_of, reaching
from kettlepost.core.survey.placeholders import PlaceholderFile, PlaceholderFinder
from kettlepost.core.survey.recognition_trial import RecognitionTrial, try_source
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
    LookedAt,
    Survey,
)
from kettlepost.core.survey.scanner import INDEX_NAMES, Recognisable, leads_out, take_survey
from kettlepost.core.survey.survey_diff import SurveyDifference, arrivals, compare

__all__ = [
    "CHOOSING_PHP",
    "CONTROL_NAMES",
    "HEAD",
    "INDEX_NAMES",
    "KEEPING_OUT",
    "LARGEST_DATABASES",
    "LARGEST_NAMES",
    "LARGEST_OUTSIDE",
    "LARGEST_SURVEY",
    "MOST",
    "SENDING",
    "SET_ASIDE",
    "Effect",
    "ExternalFacts",
    "FileNames",
    "FoundApplication",
    "FoundControl",
    "FoundDatabase",
    "FoundExposed",
    "FoundFolder",
    "FoundLink",
    "FoundOddity",
    "FoundPlaceholder",
    "FoundSite",
    "Listing",
    "LookedAt",
    "NamesWriter",
    "ObservedCertificate",
    "ObservedHost",
    "ObservedRecord",
    "PlaceholderFile",
    "PlaceholderFinder",
    "Reading",
    "Recognisable",
    "RecognitionTrial",
    "SeenDatabase",
    "SeenDatabases",
    "SeenLogin",
    "SeenTable",
    "SeenTables",
    "Source",
    "Survey",
    "SurveyDifference",
    "Wanted",
    "arrivals",
    "compare",
    "decode_databases",
    "decode_outside",
    "decode_survey",
    "encode_databases",
    "encode_outside",
    "encode_survey",
    "grouped",
    "is_in",
    "is_listing",
    "joined",
    "leads_out",
    "outside_of",
    "reaching",
    "read_dump",
    "read_listing",
    "survey_pieces",
    "take_survey",
    "try_source",
]
