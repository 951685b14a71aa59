"""Answers to a list, one a line as they come, for other programs to read."""

from __future__ import annotations

from collections.abc import Iterator

from kettlepost.render.gate import plain
from kettlepost.render.results import AnswerLines
from kettlepost.render.screen import Screen
from kettlepost.render.sentences import text


def answers_text(screen: Screen, answers: AnswerLines) -> None:
    """Fields separated by tabs."""
    for row in answers.rows:
        fields = [row.asked, row.leads_to, row.answers, str(row.status or "-"), row.certainty or "-", text(row.words)]
        line = "\t".join(fields)
        screen.raw((line if line.replace("\t", "").isprintable() else "\t".join(map(plain, fields))) + "\n")


def answers_json(answers: AnswerLines) -> Iterator[str]:
    """JSON Lines, each with the schema's version."""
    from kettlepost.render.json import line_json

    for row in answers.rows:
        yield line_json(row._replace(words=text(row.words))._asdict())
