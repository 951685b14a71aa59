"""Sentences: what changed between two surveys."""

SENTENCES = {
    "difference/became": "{was} is now {now}",
    "difference/files": "{was:,} files, now {now:,}",
    "difference/bytes": "{was:,} bytes, now {now:,}",
    "difference/newer": "files changed",
    "difference/unread": "could not be read ({trouble})",
    "difference/read-again": "can be read again",
    "difference/folder": "{changes:;}",
}
