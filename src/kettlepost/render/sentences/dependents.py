"""Sentences: what else hangs on a domain, and what was found otherwise than it was planned."""

SENTENCES = {
    "dependent/mail-planned": "its mail, as the plan says",
    "dependent/mail": "its mail, in {folder}",
    "dependent/subdomains": "{names:=subdomain}: {names:4}",
    "dependent/aliases": "{names:=alias|aliases}: {names:4}",
    "dependent/redirects": "{names:=redirect to it|redirects to it}: {names:4}",
    "dependent/staging": "{names:=staging site}: {names:4}",
    "dependent/certificates": "{number:=certificate}",
    "dependent/hang": "as {hanging} hang on it",
    "deviation": "the {aspect} is {found}, not {planned}",
}
