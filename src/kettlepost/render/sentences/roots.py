"""Sentences: rules about document roots."""

SENTENCES = {
    "apart-or-alias/show-same-pages": (
        'if {newcomers:12} {shown} to show the same pages as {keeper}, make {an_alias}: kind = "alias", of = '
        '"{keeper}", and no root'
    ),
    "apart-or-alias/alias": "it an alias",
    "apart-or-alias/each-them-alias": "each of them an alias",
    "root-missing/title": "{root}, the root of {domains:12}, does not exist",
    "root-missing/why": "visitors see an error of the server",
    "root-missing/create-add-domain": "create {root}, or add the domain at the host, and take the survey again",
    "root-missing/meant-write-root": 'if {other} is meant, write root = "{other2}"',
    "as-it-is-there/meant-write": "if {other} is meant, write it as it is there",
    "untidy/title": "{folder} has {untidiness} in its name",
    "untidy/why": "it is easily typed wrongly, and scripts and backups stumble over it",
    "untidy/use-keep-accept": "it is in use: keep it, and accept the finding",
    "untidy/call-host-first": "call it {other}, on the host first and then in the plan",
    "untidy/call-plan-host": "call it {other}, in the plan and on the host",
    "nested/title": "{root}, the root of {domains:12}, lies inside {outer}, the root of {holder}",
    "nested/why": "{holder} holds it{also}; its control files take effect in it, and clearing it clears both",
    "nested/also-answers": ", so it also answers at {second:4}",
    "difference/unicode-form": "Unicode form",
    "difference/letter-case": "letter case",
    "root-is-home/title": "the root of {names} is {is_what}",
    "root-is-home/why": "{held} by anybody who guesses the address",
    "root-is-home/holds": "{root}, which holds {inside}",
    "root-is-home/home-account": "the home of the account",
    "root-is-home/can-fetched": "{inside} in it can be fetched",
    "root-is-home/whatever-lies-beside": "whatever lies beside the site can be fetched",
    "root-is-home/also-lie-inside": "{others:4} also lie inside it",
    "root-is-home/move-out": "move {inside} out of {root}",
    "without/nobody-needs-empty": "if nobody needs {place}, which is empty, set it aside",
    "without/look-lies-give": "look at what lies in {place}: give that folder another name, or none",
    "renamed/give-name-own": "give {place} a name of its own",
    "many-nested/title": (
        "the roots of {domains:,} domains lie inside {top}, the root of {holder}, or inside each other"
    ),
    "many-nested/why": (
        "each also answers below {holder}; outer control files take effect in them, and clearing {top} clears them all"
    ),
    "out-of-the-outer/host-gives-other": (
        "if the host gives no other folder, redirect {second} to {domain} in a control file in {root}, and write "
        "an [[accept]]"
    ),
    "untidiness/such-letters": "such letters",
    "untidiness/letters-beyond-ascii": "letters beyond ASCII",
    "shared-root/title": "{names} {is_domains:?both|all} lead to {root}",
    "shared-root/why": "they show the same pages, and what is installed for {first} lands over {keeper}",
    "case-twin/title": "{folders} differ by {difference} only",
    "case-twin/why": "the server takes them for two folders, people and many programs for one",
    "root-outside-home/title": "the root of {domain} leads out of the account's home, to {target}",
    "root-outside-home/why": "what lies there is in none of this account's backups, and may be somebody else's",
    "root-through-link/title": "the root of {domain}, {root}, is really {real}",
    "root-through-link/why": "whoever clears or moves {real} does the same to {domain}",
    "root-through-link/write-root": 'write root = "{real}" at {place}',
    "sent-home/above-its-rules": "above its rules belongs: {lines}",
}
