"""Sentences of findings about certificates that end."""

SENTENCES = {
    "certificate-ends/title": "the certificate of {names} {told}",
    "certificate-ends/why": "browsers show a warning instead of the site",
    "certificate-ends/day": "in {left} day{left:?|s}",
    "certificate-ends/ended": "ended on {until}",
    "certificate-ends/ends": "ends {when}, on {until}",
    "certificate-ends/why-soon": "from then on browsers show a warning",
    "certificate-ends/renew-ask": "renew it, have the server show the new one, and ask again",
    "certificate-ends/renew-write-down": "renew it, and write down its new end at {where}, or read it in again",
}
