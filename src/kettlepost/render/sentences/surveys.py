"""Sentences: what a survey found, and what of it is not sure."""

SENTENCES = {
    "survey/unnamed": "{trouble}{number:=file or folder|files and folders} below it with too long a path",
    "survey/perhaps-placeholder": "perhaps {because}: look at it",
    "survey/by-case": "differs by case from {twin} only",
    "survey/by-unicode-form": "differs by Unicode form from {twin} only",
}
