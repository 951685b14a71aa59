"""Writes docs/findings.md from the rules' docstrings."""

from pathlib import Path

from kettlepost.core.rules import PRIMARY, Rule, rules

HEAD = """\
# What `kettlepost check` finds

Made from the rules themselves by `make docs`; `kettlepost explain RULE` shows the same in a
terminal. A finding is a `stop` (do not deploy), a `risk` (will bite) or a `note` (good to know).

Examples leave out the account's first domain where they say nothing else of it:

```toml
"""


def findings_page() -> str:
    known = rules()
    contents = "".join(f"- [{rule.slug}](#{rule.slug}) ({rule.severity}): {rule.summary}\n" for rule in known)
    return f"{HEAD}{PRIMARY}```\n\n{contents}" + "".join(map(_section, known))


def _section(rule: Rule) -> str:
    lines = [f"\n## {rule.slug}\n", f"*{rule.severity}*\n"]
    inside = False
    for block in rule.text.split("\n\n"):
        example = block.startswith("    ")
        if example != inside:
            lines.append("```toml" if example else "```\n")
            inside = example
        elif example:
            lines.append("")
        lines.append("\n".join(line.removeprefix("    ") for line in block.splitlines()) if example else block + "\n")
    return "\n".join(lines).rstrip() + "\n"


if __name__ == "__main__":
    Path(__file__).with_name("findings.md").write_text(findings_page(), "utf-8")
