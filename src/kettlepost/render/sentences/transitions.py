"""Sentences: rules about what is on its way."""

SENTENCES = {
    "unsure-tables/whether-tables-known": (
        "whether its tables in {name} are is not known, as nobody looked at the databases"
    ),
    "to-move/title": "{domain} is to move from {old} to {new}",
    "to-move/why": "until it has, it answers from {old}, with whatever is wrong there",
    "to-move/move-take-root": "move {domain} to {new}{moving}, and take root_now out",
    "to-move/stay-write-root": "if it is to stay in {old}, write that as its root",
    "many-to-move/title": "{domains:,} domains are to move to other folders, such as {domain}",
    "many-to-move/why": "until they have, they answer from the old ones, with whatever is wrong there",
    "many-to-move/move-them-one": "move them one by one{moving}, and take root_now out of each",
    "deployed/title": "{what}, but not as planned: {said}",
    "deployed/why": "{known}, and backups, clean-ups and the next installation go by the plan",
    "deployed/deployed": "{application} at {address} is deployed, in {folder}",
    "deployed/configuration-names-planned": "its configuration names the planned database",
    "deployed/earlier-survey-showed": "an earlier survey showed the folder without it",
    "deployed/title-2": "{what}, and still written down as planned",
    "deployed/why-2": "{known}, and nobody looks after what is only planned",
    "deployed/right-write-down": "if it is right as it is, write it down as it was found",
    "deployed/plan-right-mend": "if the plan is right, mend the installation, and take the survey again",
    "deployed/write-down-live": "write it down as live",
    "entry-can-go/title": "{what} is left of {named}, which is retired{unsure}",
    "entry-can-go/why": "the entry only keeps its names and its place from others",
    "entry-can-go/text": "{application} at {address}",
    "entry-can-go/file": "no file",
    "entry-can-go/take-entry-out": "take the entry out",
    "moved/title": "{domain} has moved: {new} holds what is to be there, and {old} nothing of it",
    "moved/why": "as long as the plan says that it still leads to the old folder, its addresses are told wrongly",
    "moved/take-root-now": "take root_now out",
}
