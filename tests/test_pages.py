"""What Zinker writes for people who were not there: every form says the same, and no value breaks out of it."""

import csv
import json
import re
import shutil
import subprocess
import zipfile

import lxml.html
import pytest
from conftest import BRANCH, MEASURED, needs_system
from docx import Document
from markdown_it import MarkdownIt
from playwright.sync_api import expect, sync_playwright
from test_tenant import Tenants

from zinker.model.setting import Leaf, text_of
from zinker.reports.words import visible

HOSTILE = {
    "<script>alert(1)</script>": "\"><img src=x onerror=alert('x')>",
    "</noscript></td><script>alert(2)</script>": "</noscript><script>alert(3)</script>",
    "control \x1b[31m\x07": "two\nlines\tand a bell \x07",
    "right to \u202eleft": "\u200fback\u2066 to front\ufeff",
    "lone \ud800": "\udfff, \ufffe and \uffff",
    "|pipe| `code`": "[a](javascript:alert(4)) **bold** <b>x</b> ![i](x) http://a.example www.b.example c@d.e",
    "=cmd|' /C calc'!A0": '=HYPERLINK("http://x.example")',
    "+1+1": "  -2+3",
    "@SUM(1)": "\uff1d1+1",
    "# heading": "1. list",
    "&amp; &lt;": "&quot;]]> \\ \\\\ ~~x~~ $x$",
    "spaces": "  before and behind  ",
}
NAME = '<img src=x onerror=alert(5)> "&.svg'
csv.field_size_limit(10_000_000)
ENDINGS = {"text": "txt", "markdown": "md"}


@pytest.fixture
def odd(kept):
    """A garden in which hostile settings have come, gone and changed since it was kept."""
    preset = kept.settings / "devices/bench-west.json"
    whole = json.loads(preset.read_text())
    preset.write_text(json.dumps(whole | {"odd": dict.fromkeys(HOSTILE, "as it was")}))
    kept("export", "mosslight", "--place", "potting-shed", "--label", "odd")
    kept.spoil()
    preset.write_text(json.dumps(whole | {"odd": HOSTILE | {"long": "w" * 1_000_000}}))
    (kept.data / "artwork/benches" / NAME).write_text("<svg/>")
    (kept.settings / "devices/bench-new.json").write_text('{"name": "New bench", "serial": 7}')
    return kept


def written(garden, form, *arguments, code=0):
    path = garden.path / f"report.{ENDINGS.get(form, form)}"
    path.unlink(missing_ok=True)
    garden(*arguments, "--output", path, code=code)
    return path


def told(one):
    """What people are told of a difference: word, name and address, value before, value after."""
    before, after = (
        Leaf(side["type"], side["value"]) if side else None for side in (one["before"], one["after"])
    )
    texts = [visible(text_of(leaf)) for leaf in (before, after)]
    if before and after and before.type != after.type:
        texts = [f"{text} ({leaf.type})" for text, leaf in zip(texts, (before, after), strict=True)]
    names = [visible(one[name]) for name in ("title", "address") if one[name]]
    return (one["what"], *names, *texts)


def from_markdown(path):
    html = MarkdownIt("commonmark").enable(["table", "strikethrough"]).render(path.read_text())
    assert "<script" not in html and "<img" not in html and "href" not in html.replace('href="#', "")
    tables = lxml.html.fromstring(f"<div>{html}</div>").iter("table")
    return [[_cell(cell) for cell in row.iter("td")] for table in tables for row in table.iter("tr")]


def from_html(path):
    # As a reader without scripts has it.
    text = path.read_text().replace("<noscript>", "").replace("</noscript>", "")
    page = lxml.html.fromstring(text.encode(), parser=lxml.html.HTMLParser(encoding="utf-8", huge_tree=True))
    return [[_cell(cell) for cell in row.iter("td", "th")] for row in page.iter("tr")]


def _cell(cell):
    return "\n".join(text for text in (one for one in cell.itertext()) if text)


def from_docx(path):
    document = Document(path)
    rows = []
    for table in document.element.body.iter("{*}tbl"):
        for row in table.iter("{*}tr"):
            rows.append(["\n".join(_text(p) for p in cell.iter("{*}p")) for cell in row.iter("{*}tc")])
    return rows


def _text(paragraph):
    return "".join(one.text or "" for one in paragraph.iter("{*}t"))


def test_every_form_says_the_same_of_hostile_settings_too(odd):
    asked = ("compare", "mosslight@odd")
    exact = json.loads(written(odd, "json", *asked, code=1).read_text())
    wanted = {told(one) for one in exact["differences"] if one["address"]}
    assert len(wanted) == len(HOSTILE) + 1 + 5 + 2 and exact["alike"] > 40
    assert odd(*asked, "--json", code=1).json == exact

    rows = [json.loads(line) for line in written(odd, "jsonl", *asked, code=1).read_text().splitlines()]
    assert {
        told(row) for row in rows if row["what"] in ("new", "changed", "gone") and row["address"]
    } == wanted
    assert rows[0]["before"] == exact["before"] and f"{exact['alike']} settings" in rows[0]["note"]

    lines = written(odd, "text", *asked, "--full", code=1).read_text().splitlines()
    for what, *names, before, after in wanted:
        phrase = {"new": after, "gone": f"was {before}"}.get(what, f"was {before}, now {after}")
        parts = (what, names[0], phrase, names[-1])
        found = [line for line in lines if all(part in line for part in parts)]
        assert found, parts
    for form, read in (("markdown", from_markdown), ("html", from_html), ("docx", from_docx)):
        path = written(odd, form, *asked, code=1)
        found = {(row[0], *row[1].split("\n"), *row[2:]) for row in read(path) if len(row) == 4}
        if form == "docx":
            (long,) = (row for row in found if row[1] == "/odd/long")
            assert long[-1] == f"{'w' * 200} … (1,000,000 characters: text 1 at the end)"
            whole = "".join(_text(p) for p in Document(path).element.body.iterchildren("{*}p"))
            assert whole.endswith("Text 1" + "w" * 1_000_000)
            found.add((*long[:-1], "w" * 1_000_000))
        assert wanted - {tuple(map(_as_read, row)) for row in found} == set(), form
    with written(odd, "csv", *asked, code=1).open(encoding="utf-8-sig", newline="") as file:
        cells = list(csv.DictReader(file))
    assert {(row["what"], row["address"].lstrip("'")) for row in cells if row["address"]} == {
        (one["what"], _in_csv(one["address"])) for one in exact["differences"] if one["address"]
    }
    assert not [cell for row in cells for cell in row.values() if re.match("[\\s]*[=+@\uff1d]", cell)]
    assert cells[0]["before"] == exact["before"] and cells[0]["after"] == exact["after"]


def _as_read(text):
    return text.removeprefix("\n").removesuffix("\n")


def _in_csv(text):
    return "".join(piece if piece.isspace() else visible(piece) for piece in re.split(r"([\t\r\n]+)", text))


CHROMIUM = shutil.which("chromium")
QUIET = ["--no-sandbox", "--disable-gpu", "--no-first-run", "--disable-sync"]
QUIET += ["--disable-background-networking", "--disable-component-update"]


@pytest.fixture(scope="module")
def chromium():
    needs_system(CHROMIUM, "Chromium")
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=CHROMIUM, args=QUIET)
        yield browser
        browser.close()


@pytest.fixture
def opened(chromium):
    """Opens a page; fails for whatever it says on its console, asks for, or shows as a dialog."""
    said, contexts = [], []

    def open_page(path, **more):
        contexts.append(chromium.new_context(**{"viewport": {"width": 1280, "height": 800}} | more))
        page = contexts[-1].new_page()
        page.on("console", lambda message: said.append(message.text))
        page.on("pageerror", lambda error: said.append(str(error)))
        page.on("dialog", lambda dialog: (said.append(dialog.message), dialog.dismiss()))
        page.on("request", lambda one: said.append(one.url) if one.url != path.as_uri() else None)
        page.goto(path.as_uri())
        return page

    yield open_page
    for context in contexts:
        context.close()
    assert said == []


def shown(page):
    """The names of the settings and documents that are to be seen."""
    rows = page.locator("#all tbody tr:visible, #all .whole:visible")
    return rows.evaluate_all("rows => rows.map(row => row.querySelector('th, span').firstChild.textContent)")


def test_a_page_is_searched_filtered_folded_and_printed(odd, opened, tmp_path):
    path = written(odd, "html", "compare", "mosslight@odd", code=1)
    page = opened(path)
    everything = shown(page)
    assert len(everything) == len(HOSTILE) + 1 + 5 + 3 and page.locator("script").count() == 1
    assert page.title() == "Comparison: Mosslight greenhouse lighting"
    output = page.locator("output")
    assert output.inner_text() == f"{len(everything)} in all"
    page.keyboard.press("/")
    page.keyboard.type("NORTH dusk")
    expect(page.locator("output")).to_contain_text("1 of")
    assert shown(page) == ["North lamps: dusk time"] and page.locator("h2:visible").count() == 1
    pdf = tmp_path / "page.pdf"
    page.pdf(path=pdf)
    paper = subprocess.run(
        ["pdftotext", "-layout", pdf, "-"], capture_output=True, text=True, check=True
    ).stdout
    assert "North lamps: dusk time" in paper and "North lamps: level" not in paper
    assert f"1 of {len(everything)} shown: with “NORTH dusk”" in paper and "All parts" not in paper
    page.keyboard.press("Escape")
    assert shown(page) == everything
    page.get_by_label("gone").uncheck()
    expect(page.locator("output")).to_contain_text("shown")
    assert set(everything) - set(shown(page)) == {"/keys/mist", "file benches/west.svg"}
    page.get_by_label("gone").check()
    page.get_by_label("Document").select_option("mosslight.ini")
    expect(page.locator("output")).to_contain_text("mosslight.ini")
    assert len(shown(page)) == 3
    page.get_by_label("Document").select_option("All documents")
    page.get_by_label("Part", exact=True).select_option("Bench plans")
    expect(page.locator("output")).to_contain_text("Bench plans")
    assert len(shown(page)) == 2 and any("<img src=x" in name for name in shown(page))
    page.get_by_label("Part", exact=True).select_option("All parts")
    page.get_by_role("button", name="Fold").click()
    assert page.locator("#all > section table:visible").count() == 0
    page.get_by_role("button", name="Unfold").click()
    expect(page.locator("output")).to_contain_text("in all")
    assert shown(page) == everything
    page.locator("details.whole summary").click()
    expect(page.locator("details.whole")).to_contain_text("/serial")


def test_a_page_is_read_in_the_dark_on_a_telephone_and_without_scripts(odd, opened):
    path = written(odd, "html", "compare", "mosslight@odd", code=1)
    colours = "() => { const own = getComputedStyle(document.body); return [own.color, own.backgroundColor] }"
    dark, light = (opened(path, color_scheme=one).evaluate(colours) for one in ("dark", "light"))
    assert dark == ["rgb(228, 232, 236)", "rgb(21, 25, 29)"] and light == [
        "rgb(28, 33, 38)",
        "rgb(255, 255, 255)",
    ]
    narrow = opened(path, viewport={"width": 320, "height": 800})
    assert narrow.evaluate("document.documentElement.scrollWidth") <= 320
    bare = opened(path, java_script_enabled=False)
    assert "North lamps: dusk time" in bare.content() and not bare.locator("form").count()


def test_a_long_page_has_all_of_it_at_once(garden, opened, tmp_path):
    both = [tmp_path / "was.reg", tmp_path / "now.reg"]
    for path in both:
        values = (f'"value {number:05}"="{path.stem}{number % 7}"' for number in range(3000))
        lines = ["Windows Registry Editor Version 5.00", "", rf"[{BRANCH}]", *values, ""]
        path.write_bytes("\r\n".join(lines).encode("utf-16"))
    path = written(garden, "html", "compare", *both, code=1)
    page = opened(path)
    assert page.locator("output").inner_text() == "3,000 in all"
    page.locator("input[type=search]").fill("02999")
    expect(page.locator("output")).to_contain_text("1 of")
    assert page.get_by_text("/value 02999").is_visible()
    page.locator("input[type=search]").fill("/value now5")
    expect(page.locator("output")).to_contain_text("428 of")
    expect(page.locator("tbody tr:not([hidden])")).to_have_count(428)
    page.locator("input[type=search]").fill("")
    expect(page.locator("tbody tr:not([hidden])")).to_have_count(3000)
    bare = opened(path, java_script_enabled=False)
    assert bare.locator("tbody tr").count() == 3000
    assert bare.locator("tbody tr").last.locator("th").text_content() == "/value 02999"


def test_a_document_can_be_filed(odd, tmp_path):
    soffice = shutil.which("soffice")
    needs_system(soffice, "LibreOffice")
    odd("compare", "mosslight@odd", "--output", tmp_path / "changes.docx", code=1)
    odd("document", "mosslight@odd", "--output", tmp_path / "whole.docx")
    odd("compare", "mosslight@odd", "--output", tmp_path / "changes.csv", code=1)
    own = f"-env:UserInstallation={(tmp_path / 'office').as_uri()}"
    for form, files in (("pdf", ["changes.docx", "whole.docx"]), ("fods", ["changes.csv"])):
        wanted = [soffice, own, "--headless", "--convert-to", form, *files]
        subprocess.run(wanted, cwd=tmp_path, capture_output=True, check=True)
    changes, whole = (
        subprocess.run(
            ["pdftotext", "-layout", tmp_path / f"{name}.pdf", "-"],
            capture_output=True,
            text=True,
            check=True,
        ).stdout.split("\f")
        for name in ("changes", "whole")
    )
    for name, told in (
        ("before", "mosslight@2"),
        ("after", "potting-shed now"),
        ("made by", ""),
        ("made at", "20"),
    ):
        assert re.search(rf"{name} +{told}", changes[0])
    assert "Comparison" in changes[0] and "Mosslight greenhouse lighting" in changes[0]
    assert re.search(r"page 2 of \d+", changes[1]) and "North lamps: dusk time" in "".join(changes)
    # The head of a table stands on every page that it goes over.
    assert re.match(r"\s*what +setting +was +now\n", changes[2])
    assert len([page for page in whole if re.match(r"\s*setting +value\n", page)]) >= 2
    assert re.search(r"General preferences\.+ ?2\n", whole[1]) and re.search(
        r"bench-west.json\.+ ?\d", whole[1]
    )
    assert "/account/token" in whole[-2] and "withheld" in "".join(whole)
    sheet = (tmp_path / "changes.fods").read_text()
    assert "HYPERLINK" in sheet and "table:formula" not in sheet


def test_a_plan_a_change_and_lists_come_in_every_form(kept):
    kept.spoil()
    wanted = ("import", "mosslight@1", "--place", "potting-shed")
    kept(*wanted, "--preview", "--report", "plan.html")
    plan = lxml.html.parse(kept.path / "plan.html")
    assert "North lamps: dusk time" in plan.getroot().text_content() and plan.findtext(".//h1").startswith(
        "Moss"
    )
    assert [cell.text for cell in plan.iter("th")].count("becomes") == 3
    before = kept.places()
    assert "plan.html is there already" in kept(*wanted, "--yes", "--report", "plan.html", code=3).err
    assert "tell its form" in kept(*wanted, "--yes", "--report", "plan", code=2).err
    assert ".rtf is the ending of none of its forms" in kept("list", "--output", "list.rtf", code=2).err
    assert "does not exist" in kept("list", "--output", "none/list.md", code=2).err
    assert "two forms" in kept("list", "--json", "--format", "csv", code=2).err
    assert kept.places() == before
    kept(*wanted, "--yes", "--report", "done.docx")
    whole = "\n".join(_text(p) for p in Document(kept.path / "done.docx").element.body.iter("{*}p"))
    assert "6 settings written and read back." in whole and "To take it back: zinker undo 1" in whole
    kept("changes", "1", "--output", "change.md")
    assert "| changed | North lamps: dusk time<br>/lamps.north/dusk | 07:30 | 19:30 |" in (
        (kept.path / "change.md").read_text()
    )
    for form, reader in (("html", from_html), ("docx", from_docx), ("markdown", from_markdown)):
        (row,) = (row for row in reader(written(kept, form, "changes")) if row[:1] == ["1"])
        assert row[2:5] == ["import", "potting-shed: mosslight", "mosslight@1, from potting-shed"]
        rows = reader(written(kept, form, "list"))
        assert [row[0] for row in rows if row and row[0].startswith("@")] == ["@1", "@2"]
    rows = list(
        csv.DictReader(kept("show", "mosslight@1", "--find", "dusk", "--format", "csv").out.splitlines())
    )
    assert [row["value"] for row in rows] == ["19:30", "20:00"]
    lines = kept("list", "--format", "jsonl").out.splitlines()
    assert [json.loads(line)["reference"] for line in lines] == ["mosslight@1", "mosslight@2"]
    assert kept("list", "--format", "json").json == kept("list", "--json").json


def test_a_comparison_is_narrowed_and_summed_up(kept):
    kept.spoil()
    ini = kept.ini.read_bytes()
    kept.ini.write_bytes(ini.replace(b"width = 1280", b"width = 800").replace(b"width=1280", b"width=800"))
    (kept.settings / "devices/bench-new.json").write_text('{"name": "New bench", "serial": 7}')
    whole = kept("compare", "mosslight", code=1).out
    assert whole.splitlines()[3].startswith("4 changed, 2 new, 2 gone; 47 settings are alike.")
    assert "/window/width" not in whole and "/serial" not in whole
    assert "/window/width" in kept("compare", "mosslight", "--volatile", code=1).out
    assert "/serial" in kept("compare", "mosslight", "--full", code=1).out
    brief = kept("compare", "mosslight", "--brief", code=1).out
    assert re.search(r"^2 +0 +1 +General preferences +mosslight.ini$", brief, re.M) and "dusk" not in brief
    gone = kept("compare", "mosslight", "--kind", "gone", code=1).out
    assert "2 gone;" in gone and "6 more differences were not asked for." in gone and "dusk" not in gone
    found = kept("compare", "mosslight", "--find", "SIREN", "--json", code=1).json
    assert [one["title"] for one in found["differences"]] == ["Alarm sound"] and found["not_asked_for"] == 7
    assert kept("compare", "mosslight", "--find", "no such").code == 0


def test_more_than_a_screen_is_paged(kept):
    pager = {"PAGER": "sed s/^/paged:/", "LINES": "20", "NO_COLOR": "1"}
    out, code = kept.at_terminal("show", "mosslight", env=pager.items())
    assert code == 0 and out.count("paged:") > 40 and "paged:\x1b[1mMosslight" in out
    out, _ = kept.at_terminal("show", "mosslight", "--find", "dusk", env=pager.items())
    assert "paged:" not in out and "19:30" in out


def test_a_month_says_what_changed_and_who_did_it(kept, opened):
    kept("export", "quillfern", "--place", "potting-shed", "--label", "season-start")
    kept.ini.write_bytes(kept.ini.read_bytes().replace(b"dusk=19:30", b"dusk=18:00"))
    kept.spoil()
    kept("export", "mosslight", "--place", "potting-shed", "--label", "spoilt")
    kept("import", "mosslight@1", "--place", "potting-shed", "--address", "/lamps.north", "--yes")
    kept("import", "mosslight@spoilt", "--place", "potting-shed", "--address", "/lamps.north/level", "--yes")
    for subject in ("mosslight", "quillfern"):
        kept("export", subject, "--place", "potting-shed", "--label", "season-end", "--again")
    one = kept("compare", "mosslight@spoilt", "mosslight@season-end", "--json", code=1).json
    assert [(d["address"], d["change"]) for d in one["differences"]] == [("/lamps.north/dusk", 1)]
    assert [change["number"] for change in one["changes"]] == [1, 2]
    month = ("compare", "potting-shed:@season-start", "potting-shed:@season-end")
    whole = kept(*month, code=1).out
    assert "All that is kept of potting-shed" in whole and "Quillfern" in whole
    assert re.search(r"North lamps: level in percent +was 55, now 100 .*\n +by \S+, .*, with change 2", whole)
    assert re.search(r"^1 +\d{4}-\d\d-\d\d \d\d:\d\d +import +\S+ on \S+ +mosslight@1", whole, re.M)
    kept(*month, "--output", "november.docx", code=1)
    rows = from_docx(kept.path / "november.docx")
    assert [row[3] for row in rows if row[0].isdecimal() and len(row) == 5][:2] == [
        "Mosslight greenhouse lighting",
        "Quillfern plant-label designer",
    ]
    kept(*month, "--output", "month.html", code=1)
    page = opened(kept.path / "month.html")
    heading = page.get_by_role("heading", name="Mosslight greenhouse lighting at potting-shed")
    assert heading.is_visible()
    page.locator("input[type=search]").fill("no such thing")
    expect(heading).not_to_be_visible()
    lines = [json.loads(line) for line in kept(*month, "--format", "jsonl", code=1).out.splitlines()]
    assert {line["subject"] for line in lines} == {"mosslight", "quillfern"}
    today = kept("list", "--json").json[0]["captured"][:10]
    assert kept("compare", f"@{today}", "--place", "potting-shed").code == 0
    kept.ini.write_bytes(kept.ini.read_bytes().replace(b"metric", b"imperial"))
    assert "imperial" in kept("compare", f"@{today}", "--place", "potting-shed", code=1).out
    assert "one subject" in kept("compare", f"@{today}", "--prefix", "x", code=2).err
    kept("export", "quillfern", "--place", "potting-shed", "--label", "season-end")
    same = ("compare", "potting-shed:@season-end", f"potting-shed:@{today}", "--json")
    (quillfern,) = (
        one for one in kept(*same, code=None).json["comparisons"] if one["subject"] == "quillfern"
    )
    assert quillfern["differences"] == [] and quillfern["alike"] > 10
    missing = kept("compare", "@2001-01-01", code=1)
    assert "Not compared:" in missing.out
    assert "nothing is kept" in kept("compare", code=2).err


def test_history_says_when_what_where_and_with_what_else(kept):
    steps = ((b"19:30", b"18:00", ""), (b"metric", b"imperial", ""), (b"18:00", b"17:00", "winter"))
    for old, new, label in steps:
        ini = kept.ini.read_bytes()
        new_width = re.sub(rb"(width ?= ?)\d+", rb"\g<1>1024", ini)
        kept.ini.write_bytes(new_width.replace(old, new).replace(b"F7", b"F8" if label else b"F7"))
        kept("export", "mosslight", "--place", "potting-shed", *(("--label", label) if label else ()))
    kept("import", "mosslight@1", "--place", "potting-shed", "--address", "/lamps.north/dusk", "--yes")
    kept("export", "mosslight", "--place", "potting-shed")
    kept("export", "mosslight", "--place", "glasshouse", "--label", "elsewhere", code=None)
    found = kept("history", "mosslight", "--address", "North lamps: dusk time", "--json").json
    moves = [
        (s["before"], s["after"], one["before"]["value"], one["after"]["value"], one.get("change"))
        for s in found["steps"]
        for one in s["settings"]
    ]
    assert moves == [
        ("mosslight@1", "mosslight@2", "19:30", "18:00", None),
        ("mosslight@3", "mosslight@4", "18:00", "17:00", None),
        ("mosslight@4", "mosslight@6", "17:00", "19:30", 1),
    ]
    text = kept("history", "mosslight", "--find", "dusk").out
    assert "@3 to @4 (winter) at potting-shed" in text and "with 1 other: /keys/mist" in text
    assert "change 1: import by" in text and "/window" not in text
    assert re.search(
        "As ever at potting-shed.*\n.*Language.* en ", kept("history", "mosslight", "--find", "language").out
    )
    brief = kept("history", "mosslight", "--brief").out
    assert re.search(r"@2 to @3 +1 +0 +0 +potting-shed", brief) and "dusk" not in brief
    kept("history", "mosslight", "--output", "moss.png")
    assert (kept.path / "moss.png").read_bytes()[1:4] == b"PNG"
    kept("history", "mosslight", "--output", "moss.svg")
    lxml.html.fromstring((kept.path / "moss.svg").read_bytes())
    assert "is there already" in kept("history", "mosslight", "--output", "moss.svg", code=3).err
    shutil.rmtree(kept.path / "shelf/subjects/mosslight")
    assert "nothing is kept of mosslight" in kept("history", "mosslight", code=2).err


@pytest.fixture
def tenants(tmp_path):
    made = Tenants(tmp_path / "garden")
    yield made
    made.stop()


def test_policies_lead_to_each_other_and_secrets_are_named(tenants):
    tenants("export", "garden-tenant", "--place", "trial", "--label", "agreed")
    page = lxml.html.fromstring(written(tenants, "html", "document", "garden-tenant@agreed").read_bytes())
    links = {
        (row.findtext("th"), link.text, page.get_element_by_id(link.get("href")[1:]).findtext("h3"))
        for row in page.iter("tr")
        for link in row.iter("a")
    }
    assert links == {
        ("/tellAlso", "Notice", "Notice"),
        ("/comesAfter", "Kiosk rules", "Kiosk rules"),
        ("/leansOn", "Moss runtime", "Moss runtime"),
    }
    contents = {link.text: link.get("href")[1:] for link in page.find(".//nav").iter("a")}
    assert {"House rules", "Kiosk rules", "Garden set"} < contents.keys()
    assert all(page.get_element_by_id(anchor) is not None for anchor in contents.values())
    text = page.text_content()
    assert "id d40e8487" in text and "last changed by fern@tarnhollow.example" in text
    secrets = [cell.text for cell in page.xpath("//h2[.='Withheld']/following::table[1]//td")]
    assert secrets[:3] == ["Programs", "Brindlepot", "/chestKey"]
    document = Document(written(tenants, "docx", "document", "garden-tenant@agreed"))
    marks = {one.get(f"{{{one.nsmap['w']}}}name") for one in document.element.body.iter("{*}bookmarkStart")}
    to = {one.get(f"{{{one.nsmap['w']}}}anchor") for one in document.element.body.iter("{*}hyperlink")}
    assert to <= marks and len(to) == 11
    markdown = written(tenants, "markdown", "document", "garden-tenant@agreed").read_text()
    (anchor,) = re.findall(r"\| /tellAlso \| \[Notice\]\(#(d\d+)\) \|", markdown)
    assert f'### <a id="{anchor}"></a>Notice' in markdown
    # Who changed a policy is the service's to say.
    tenants.change("HouseRules", "Notice", "tarnhollow-trial", terms=[])
    told = tenants("compare", "garden-tenant@agreed", "--format", "csv", code=1).out
    assert "last changed by" in told


@pytest.mark.soak
def test_a_whole_tenant_of_5000_policies_is_written_down(tmp_path):
    tenants = Tenants(tmp_path / "garden", policies=5000)
    try:
        tenants("export", "garden-tenant", "--place", "trial")
    finally:
        tenants.stop()
    for form in ("html", "markdown", "docx"):
        path = tmp_path / f"tenant.{ENDINGS.get(form, form)}"
        done = tenants("document", "garden-tenant", "--output", path, wrapper=MEASURED)
        assert int(done.err.split()[-1]) < 400_000, form  # KiB
    text = (tmp_path / "tenant.html").read_text()
    assert text.count("<h3>") == 5000 and text.count('<tr data-w="">') == 35_000
    with zipfile.ZipFile(tmp_path / "tenant.docx") as packed:
        body = packed.read("word/document.xml")
    assert body.count(b"<w:tblHeader/>") == 5001 and body.count(b"w:bookmarkStart") == 5000


def test_a_report_that_cannot_be_written_changes_nothing_in_what_was_done(kept):
    kept.spoil()
    folder = kept.path / "tickets"
    folder.mkdir()
    wanted = ("import", "mosslight@1", "--place", "potting-shed", "--report", "tickets/ticket.html")
    # The folder goes while somebody is asked.
    gone = shutil.rmtree
    output, code = kept.at_terminal(
        *wanted, answers=[("[y/N]:", lambda: gone(folder, ignore_errors=True) or "y\n")]
    )
    assert code == 0 and "6 settings written and read back" in output
    assert "The report was not written: " in output.replace("\r\n", " ")
    kept("compare", "mosslight@1")
