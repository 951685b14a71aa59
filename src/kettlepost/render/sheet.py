"""The sheet of a site as text, Markdown, JSON, and as a page that stands alone and prints on one."""

from __future__ import annotations

from collections.abc import Iterator

import msgspec

from kettlepost.core.quoting import html, markdown
from kettlepost.core.quoting.html import Html
from kettlepost.core.quoting.markdown import Markdown
from kettlepost.core.work.sheet import SheetPart, SiteSheet
from kettlepost.render.json import document, worded
from kettlepost.render.results import SheetsShown
from kettlepost.render.screen import Screen
from kettlepost.render.sentences import text
from kettlepost.workspace.sheets import MARK

_HEADS = {
    SheetPart.SITE: "The site", SheetPart.ADDRESSES: "Addresses", SheetPart.PLACE: "Where it lies",
    SheetPart.DATA: "Its data",
    SheetPart.CARE: "Updates and backups", SheetPart.PEOPLE: "People",
}  # fmt: skip
_STYLE = """
@page { size: A4; margin: 14mm }
* { box-sizing: border-box }
body { font: 15px/1.45 Georgia, "DejaVu Serif", serif; color: #23201c; background: #f4f0e8; margin: 0 }
main { max-width: 60rem; margin: 1.5rem auto; padding: 1.6rem 2.2rem; background: #fffdf8 }
main { border-top: 6px solid #8a3b2a }
header { display: flex; justify-content: space-between; align-items: baseline; gap: 2rem; flex-wrap: wrap }
h1 { font-size: 1.7rem; margin: 0 }
header p { margin: 0; color: #6b6257 }
.address { font-size: 1.05rem; margin: .2rem 0 1.2rem; overflow-wrap: anywhere }
.parts { columns: 2; column-gap: 2.4rem }
section { break-inside: avoid; margin: 0 0 1.1rem }
h2 { font-size: .95rem; margin: 0 0 .3rem; color: #8a3b2a; border-bottom: 1px solid #ddd2c2; padding-bottom: .15rem }
dl { display: grid; grid-template-columns: 8.2rem 1fr; gap: .1rem .7rem; margin: 0 }
dt { color: #6b6257 }
dd { margin: 0; overflow-wrap: anywhere }
ul { margin: .3rem 0 0; padding-left: 1.1rem }
.stop { color: #a01818; font-weight: bold } .risk { color: #8a5a00; font-weight: bold } .note { color: #6b6257 }
@media (max-width: 44rem) { .parts { columns: 1 } main { margin: 0; padding: 1rem } }
@media print { body { background: none; font-size: 12px } main { margin: 0; padding: 0; border: 0 } }
"""


def _findings(sheet: SiteSheet) -> list[tuple[str, str]]:
    return [(severity, text(words)) for severity, words in sheet.findings]


def show_sheets(screen: Screen, shown: SheetsShown) -> None:
    for n, sheet in enumerate(shown.sheets):
        if n:
            screen.blank()
        screen.line((sheet.title, "bold"), (f"  {sheet.address}  {sheet.client}".rstrip(), "dim"))
        for part, lines in sheet.lines.items():
            for m, line in enumerate(lines):
                head = _HEADS[part] if m == 0 else ""
                screen.labelled((head, "dim"), (f"{line.label:<16}", "dim"), text(line.value), indent=2, column=24)
        for m, (severity, words) in enumerate(_findings(sheet)):
            head = "Open" if m == 0 else ""
            screen.labelled((head, "dim"), (f"{severity:<16}", "bold"), words, indent=2, column=24)
        for m, event in enumerate(sheet.history):
            screen.labelled(("History" if m == 0 else "", "dim"), event, indent=2, column=24)


def sheets_markdown(shown: SheetsShown) -> Markdown:
    return Markdown.joined(Markdown.joined(_lines(sheet)) for sheet in shown.sheets)


def _lines(sheet: SiteSheet) -> Iterator[Markdown]:
    empty = Markdown.of("")
    yield from (Markdown.of("# «title»", title=markdown.text(sheet.title)), empty, markdown.text(sheet.address), empty)
    for part, known in sheet.lines.items():
        yield from (Markdown.of("## «head»", head=markdown.text(_HEADS[part])), empty)
        for one in known:
            yield Markdown.of(
                "- «label»: «value»", label=markdown.text(one.label), value=markdown.text(text(one.value))
            )
        yield empty
    if sheet.findings:
        yield from (Markdown.of("## Open"), empty)
        for severity, words in _findings(sheet):
            yield Markdown.of(
                "- **«severity»** «words»", severity=markdown.text(severity), words=markdown.text(words)
            )  # fmt: skip
        yield empty


def sheets_json(shown: SheetsShown) -> str:
    return document({"sheets": [_json(sheet) for sheet in shown.sheets]})


def sheets_html(shown: SheetsShown) -> Html:
    """One page with all of them, each on a sheet of paper of its own."""
    return page(*shown.sheets)


def page(*sheets: SiteSheet) -> Html:
    """A whole page that needs nothing beside it."""
    return Html.of(
        _PAGE, mark=Html.of(MARK), title=html.text(sheets[0].title if len(sheets) == 1 else "Sheets"),
        style=Html.of(_STYLE),
        body=Html.joined(map(_main, sheets), '\n<div style="break-after: page"></div>\n'),
    )  # fmt: skip


_PAGE = """\
<!doctype html>
«mark»
<html lang="en">
<head>
<meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1">
<title>«title»</title>
<style>«style»</style>
</head>
<body>
«body»
</body>
</html>
"""


def _main(sheet: SiteSheet) -> Html:
    return Html.of(
        '<main>\n<header><h1>«title»</h1><p>«whose»</p></header>\n'
        '<p class="address">«address»</p>\n<div class="parts">\n«told»\n</div>\n</main>',
        title=html.text(sheet.title), address=html.text(sheet.address), told=Html.joined(_sections(sheet)),
        whose=Html.joined((html.text(one) for one in (sheet.client, sheet.state) if one), " &middot; "),
    )  # fmt: skip


def _sections(sheet: SiteSheet) -> Iterator[Html]:
    for part, lines in sheet.lines.items():
        items = (
            Html.of("<dt>«label»</dt><dd>«value»</dd>", label=html.text(line.label), value=html.text(text(line.value)))
            for line in lines
        )
        yield Html.of(
            "<section><h2>«head»</h2><dl>«items»</dl></section>", head=html.text(_HEADS[part]),
            items=Html.joined(items, ""),
        )  # fmt: skip
    if sheet.findings:
        found = (
            Html.of(
                '<li><span class="«severity»">«severity»</span> «words»</li>', severity=html.text(severity),
                words=html.text(words),
            )
            for severity, words in _findings(sheet)
        )  # fmt: skip
        yield Html.of("<section><h2>Open</h2><ul>«items»</ul></section>", items=Html.joined(found, ""))
    if sheet.history:
        events = (Html.of("<li>«event»</li>", event=html.text(event)) for event in sheet.history)
        yield Html.of("<section><h2>History</h2><ul>«items»</ul></section>", items=Html.joined(events, ""))


def _json(sheet: SiteSheet) -> dict[str, object]:
    return {
        "address": sheet.address, "title": sheet.title, "account": sheet.account, "client": sheet.client,
        "state": sheet.state,
        "parts": {
            part.value: [worded(msgspec.structs.asdict(line)) for line in lines] for part, lines in sheet.lines.items()
        },
        "findings": [{"severity": severity, "title": words} for severity, words in _findings(sheet)],
        "history": sheet.history,
    }  # fmt: skip
