"""Sentences of what is proposed: an installation that is retired, and what is left of it."""

SENTENCES = {
    "retire/remains": "remains: {words}",
    "retire/must-stay": "what others use, and must stay: {stays:8}",
    "forget/tables": "{left}; keep a copy, drop that, and look at the databases again",
}
