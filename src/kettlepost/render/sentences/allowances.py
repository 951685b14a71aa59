"""Sentences: rules about what the package allows."""

SENTENCES = {
    "count/planned-only": "{planned:,} planned {use}",
    "count/them-set-aside": "{live:,} {use} ({aside:,} of them set aside)",
    "count/live-and-planned": "and {planned:,} planned ",
    "count/plan": "it is in no plan",
    "count/them-plan": "{unplanned:,} of them in no plan",
    "over-allowance/title": '{count}; package "{package}" allows {allowed:,}{named}',
    "over-allowance/why": "the work stops half-way, or the host suspends the account",
    "over-allowance/first-does-fit": ", so {what} {first} is the first that does not fit",
    "over-allowance/retire-some-first": "retire some {use} first, or plan the rest on another account",
    "larger/take-package-all": 'take the package "{name}", in which all of it fits',
    "near-allowance/title": '{count} of the {allowed:,} that package "{package}" allows',
    "near-allowance/why": "there is room for {left:,} more",
    "near-allowance/why-full": "there is room for no more",
    "near-allowance/plan-comes-next": "plan what comes next with a larger package, or on another account",
    "count/there": "{live:=database} ({told}){planned}",
    "count/all": "{live:,} {is_live:?live |}{planned}{use}",
    "count/and-planned": " and {planned:,} planned",
}
