"""The documents say what the code does."""

import json
import re
from pathlib import Path

import pytest

from cadrel.bench.service import HANDLERS
from cadrel.core.errors import CadrelError
from cadrel.core.simulation.layout import SIGNALS
from cadrel.link.commands import COMMANDS
from cadrel.web.runs.plots import CHANNELS, UNITS

ROOT = Path(__file__).resolve().parents[1]
WEB = ROOT / "src" / "cadrel" / "web"


def test_the_protocol_document_lists_every_method_and_who_needs_the_lease() -> None:
    text = (ROOT / "docs" / "link-protocol.md").read_text()
    for method in {*HANDLERS, *COMMANDS}:
        assert f"`{method}`" in text, method
        if COMMANDS[method].led:
            assert f"`{method}` L" in text, method


def test_every_picture_in_docs_is_in_the_readme_and_there_are_under_twenty() -> None:
    text = (ROOT / "README.md").read_text()
    pictures = sorted((ROOT / "docs" / "screenshots").glob("*.png"))
    assert 8 < len(pictures) < 20
    for picture in pictures:
        assert f"docs/screenshots/{picture.name}" in text


def test_one_command_takes_every_picture_anew() -> None:
    from cadrel.cli.screenshots import VIEWS

    assert {p.stem for p in (ROOT / "docs" / "screenshots").glob("*.png")} == set(VIEWS)


@pytest.mark.parametrize("name", ["README.md", *[f"docs/{p.name}" for p in (ROOT / "docs").glob("*.md")]])
def test_every_link_of_a_document_leads_somewhere(name: str) -> None:
    page = ROOT / name
    for target in re.findall(r"\]\(([^)#]+)", page.read_text()):
        assert (page.parent / target).exists(), target


def test_every_error_says_what_happened_and_means_something_else_than_its_remedy() -> None:
    import cadrel.link
    import cadrel.procedures
    import cadrel.web.rig.errors

    assert cadrel.link
    assert cadrel.procedures
    found = CadrelError.subclasses()
    assert len(found) > 20
    for name, kind in found.items():
        assert kind.__doc__, name
        assert kind.happened != CadrelError.happened or kind.__subclasses__(), name


def test_errors_cross_a_process_with_their_facts() -> None:
    import pickle

    from cadrel.procedures.phasing.faults import did_not_follow, wired_wrongly

    error = wired_wrongly([did_not_follow(commanded=6.28, seen=0.02, current=3.5)])
    again = pickle.loads(pickle.dumps(error))
    assert again.facts == error.facts
    assert again.text == error.text
    assert "2.47 A rms" in again.text


def test_every_recorder_signal_has_a_plot_style_and_a_unit() -> None:
    for key, _, _ in SIGNALS:
        quantity = CHANNELS[key][0]
        assert quantity in UNITS or quantity in ("position", "velocity", "error")


def test_what_ships_is_listed_with_version_and_licence() -> None:
    import hashlib

    folder = ROOT / "src" / "cadrel" / "web" / "static" / "vendor"
    rows = json.loads((folder / "vendor.json").read_text())
    listed = {row["file"]: row for row in rows}
    files = {str(p.relative_to(folder)) for p in folder.rglob("*") if p.is_file()} - {"vendor.json"}
    assert files == set(listed)
    for name, row in listed.items():
        assert row["licence"]
        assert hashlib.sha256((folder / name).read_bytes()).hexdigest() == row["sha256"], name


def test_terms_are_unique_and_say_something() -> None:
    rows = [r.split("|")[1:-1] for r in (ROOT / "docs" / "terms.md").read_text().splitlines() if r.startswith("|")][2:]
    names = [r[0].strip() for r in rows]
    assert len(names) == len(set(names))
    assert all(len(r[3].strip()) > 8 for r in rows)


def test_imported_scripts_exist_and_no_template_holds_script_or_style() -> None:
    web = ROOT / "src" / "cadrel" / "web"
    for script in (web / "static" / "app").glob("*.js"):
        for target in re.findall(r'from "(\.[^"]+)"', script.read_text()):
            assert (script.parent / target).resolve().exists(), f"{script.name}: {target}"
    for template in (web / "templates").rglob("*.html"):
        text = template.read_text()
        assert "style=" not in text, template
        assert not re.search(r"\son\w+=", text), template
        if template.name.startswith("_"):
            assert text.startswith("{#"), f"{template.name} does not say what it needs"


def test_no_line_of_script_style_or_template_is_wider_than_a_page() -> None:
    own = [*WEB.glob("templates/**/*.html"), *WEB.glob("static/app/**/*.js"), *WEB.glob("static/app/**/*.css")]
    own += [ROOT / "eslint.config.js", ROOT / "package.json", *ROOT.glob("tests/scripts/*.js")]
    assert len(own) > 50
    for path in own:
        for number, line in enumerate(path.read_text().splitlines(), 1):
            assert len(line) <= 120, f"{path.relative_to(ROOT)}:{number}"


def test_every_part_of_a_template_begins_with_what_it_needs() -> None:
    parts = [p for p in WEB.glob("templates/**/_*.html")]
    assert len(parts) > 10
    for path in parts:
        first = path.read_text().splitlines()[0]
        assert first.startswith("{#") and "Needs:" in first and first.rstrip().endswith("#}"), path.name
