"""Sentences: parties."""

SENTENCES = {
    "held-names/more": " and {more:,} more",
    "party/seen": "seen by the survey",
    "party/known-by": "known by {evidence}",
    "party/line": "line {line}",
    "party/leads-to": "leads to {target}",
    "installation/at": "{application} at {address}",
}
