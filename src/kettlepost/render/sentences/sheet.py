"""Sentences: what the sheet of a site and the steps of its care say."""

SENTENCES = {
    "sheet/until": "until {until}",
    "sheet/seen-until": "until {until}, seen on {day}",
    "sheet/points-here": "yes, seen on {day}",
    "sheet/leads-elsewhere": "it leads elsewhere, seen on {day}",
    "sheet/no-certificate": "none is written down",
    "sheet/not-yet": "not yet",
    "sheet/kept-as": "kept as {title}",
    "sheet/updates-by": "{updates}, by {by}",
    "sheet/unsaid": "nothing is said",
    "sheet/backups": "one each {each}, {keep} kept",
    "work/backups": "one each {each}, {keep} kept, at {at}",
    "work/shown-or-title": "{application}, or its title {title}",
}
