"""Sentences: why a folder was not looked at whole."""

SENTENCES = {
    "clearing/odd-entries": "something that is neither file nor folder lies there",
    "clearing/names-missing": "not all names in it were kept",
}
