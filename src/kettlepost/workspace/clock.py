"""The clock, which nothing below this floor looks at."""

from __future__ import annotations

import datetime


def today_or(day: datetime.date | None) -> datetime.date:
    """The day that was given, else today (UTC)."""
    return day if day is not None else datetime.datetime.now(tz=datetime.UTC).date()


def now() -> str:
    """This moment in UTC, ISO 8601, to the second."""
    return datetime.datetime.now(tz=datetime.UTC).strftime("%Y-%m-%dT%H:%M:%SZ")
