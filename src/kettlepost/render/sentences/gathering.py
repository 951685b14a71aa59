"""Sentences: telling many findings of one kind in an account as one."""

SENTENCES = {
    "without-www/title": "{many:,} domains lead nowhere with www: {ats:3}",
    "without-www/why": "nobody declares www before them, {sent}",
    "without-www/people-sent": "and people are sent there",
    "without-www/server-without-www": "their server has the names without www alone, and people type it all the same",
    "without-www/www-added-before": "have www added before each at the host and its name servers, and say that both answer",
    "without-www/none-answer-www": "if none is to answer with www",
    "unplanned/title": "{many:,} applications are not in the plan: in {ats:3}",
    "unplanned/why": "they answer, and nobody updates what nobody has written down",
    "unplanned/write-them-down": "write them down",
    "unplanned/those-nobody-wants": "of those that nobody wants, keep a copy and remove what nobody else uses, one by one",
}
