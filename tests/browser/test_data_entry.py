"""Data entry as an engineer at a machine does it: by keyboard alone, with what was understood beside it."""

import json
import re
from contextlib import AbstractContextManager
from typing import Any
from urllib.parse import urlencode

import pytest
from playwright.sync_api import Page, Route, expect

from cadrel.core.parameters import conventions_for, parameter
from tests.browser.conftest import Stack, lead, send_and_store, serious_violations, step
from tests.conftest import DEMO

pytestmark = [pytest.mark.browser, pytest.mark.timeout(300)]
ENTRY_STEPS = {
    "Motor": ("sheet.", "cable."),
    "Feedback": ("feedback.", "second."),
    "Mechanics": ("mechanics.",),
    "Power": ("power.", "brake."),
    "Limits and goal": ("limit.", "goal.", "procedure."),
}
FOCUSED = """() => {
  const e = document.activeElement;
  const options = e.options ? [...e.options].map(o => o.value) : [];
  return {name: e.name || "", tag: e.tagName, text: e.textContent.trim(), value: e.value, at: e.selectedIndex, options};
}"""
Focused = dict[str, Any]


def blank_axis(page: Page, name: str) -> None:
    page.get_by_role("link", name="New project").focus()
    page.keyboard.press("Enter")
    expect(page.get_by_role("textbox", name="Project")).to_be_focused()
    for text in (f"By keyboard: {name}", "", "Cabinet B", None, None, name, name):
        if text is not None:
            page.keyboard.type(text)
        page.keyboard.press("Tab")
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", level=1, name="Motor")).to_be_visible()


def wanted_at(focused: Focused, values: dict[str, Any]) -> str | None:
    """What the sheet says for the control under the focus, as its text; None if it says nothing."""
    key, part = re.fullmatch(r"(.*?)(\.unit|\.convention)?", focused["name"]).groups()
    entry = values.get(key, {})
    wanted = entry.get((part or ".value")[1:])
    return wanted if wanted is None or isinstance(wanted, str) else repr(wanted)


def choose(page: Page, focused: Focused, value: str) -> None:
    """Move the focused select to an option with the arrow keys."""
    way = focused["options"].index(value) - focused["at"]
    for _ in range(abs(way)):
        page.keyboard.press("ArrowDown" if way > 0 else "ArrowUp")


def form_is_drawn_anew(page: Page, name: str, value: str) -> AbstractContextManager[Any]:
    """Wait until the form that was asked for with this choice has come."""
    said = urlencode({name: value})
    return page.expect_request_finished(lambda r: "/preview/" in r.url and said in (r.post_data or "").split("&"))


def fill_by_keyboard(page: Page, values: dict[str, Any]) -> None:
    """Walk through the form with Tab until Save, setting what is known; again if a choice asked for more."""
    for _ in range(4):
        page.get_by_role("heading", level=1).evaluate("e => { e.tabIndex = -1; e.focus(); }")  # as a reload leaves it
        redrawn = False
        for _ in range(220):
            page.keyboard.press("Tab")
            at = page.evaluate(FOCUSED)
            if at["tag"] == "BUTTON" and at["text"] == "Save values":
                break
            wanted = wanted_at(at, values)
            if wanted is None or wanted == at["value"]:
                continue
            if at["tag"] != "SELECT":
                page.keyboard.press("Control+a")
                page.keyboard.type(wanted)
            elif at["name"].endswith((".unit", ".convention")):
                choose(page, at, wanted)
            else:
                redrawn = True
                with form_is_drawn_anew(page, at["name"], wanted):
                    choose(page, at, wanted)
                expect(page.locator("form.htmx-request")).to_have_count(0)
        else:
            raise AssertionError("Tab never reached the Save button")
        if not redrawn:
            break
    page.keyboard.press("Enter")


@pytest.mark.parametrize("name", ["tile-pusher", "kiln-car-lift"])
def test_a_blank_axis_is_completed_without_leaving_the_keyboard(page: Page, stack: Stack, name: str) -> None:
    wanted = json.loads((DEMO / "axes" / f"{name}.json").read_text())["values"]
    blank_axis(page, name)
    for title, prefixes in ENTRY_STEPS.items():
        step(page, title)
        fill_by_keyboard(page, {k: v for k, v in wanted.items() if k.startswith(prefixes)})
        expect(page.get_by_text(re.compile(r"Saved as value set \d+\."))).to_be_visible()
    route = page.get_by_role("navigation", name="Route")
    for title in ENTRY_STEPS:
        expect(route.get_by_role("link", name=title)).to_contain_text(re.compile("checks agree|to look at|wrong"))
    address = re.sub(r"[^/]+/$", "export/", page.url)
    kept = page.context.request.get(address).json()["values"]
    for key, entry in wanted.items():
        assert {k: v for k, v in kept[key].items() if k != "source"}.items() >= entry.items(), key


def test_a_mislabelled_constant_is_mended_by_one_click(page: Page, stack: Stack) -> None:
    page.get_by_role("row", name=re.compile("Kiln-car lift")).get_by_role("link").first.click()
    expect(page.get_by_role("heading", level=1, name="Motor")).to_be_visible()
    expect(page.locator("#strip")).to_have_attribute("data-ready", "1")  # the scripts are there: a choice is answered
    page.get_by_label("Convention of Back-EMF constant").select_option("line to line, peak")
    expect(page.get_by_text("They agree if the back-EMF constant is line to line, rms.").first).to_be_visible()
    page.get_by_role("button", name="Save values").click()
    page.get_by_role("button", name="Take “line to line, rms”").first.click()
    expect(page.get_by_label("Convention of Back-EMF constant")).to_have_value("ll_rms")
    expect(page.get_by_text("They agree if")).to_be_hidden()
    assert serious_violations(page) == []


def test_another_kind_of_motor_asks_for_other_things_and_keeps_what_was_typed(page: Page, stack: Stack) -> None:
    page.get_by_role("row", name=re.compile("Spray carriage")).get_by_role("link").first.click()
    page.get_by_role("textbox", name="Winding resistance").fill("4.7")
    page.get_by_role("combobox", name="Kind of motor").select_option("induction")
    expect(page.get_by_role("textbox", name="Power factor")).to_be_visible()
    page.get_by_role("combobox", name="Kind of motor").select_option("linear")
    expect(page.get_by_role("textbox", name="Magnetic pitch")).to_be_visible()
    expect(page.get_by_role("img", name="Force over velocity at the bus voltage")).to_be_visible()


def test_what_is_typed_before_the_scripts_are_there_is_answered_once_they_are(page: Page, stack: Stack) -> None:
    held: list[Route] = []
    page.route(re.compile(r"htmx\.min"), lambda route: held.append(route))  # noqa: PLW0108 - a builtin is no handler
    page.get_by_role("row", name=re.compile("Spray carriage")).get_by_role("link").first.click()
    page.get_by_role("textbox", name="Winding resistance").fill("4.7")
    page.get_by_role("combobox", name="Kind of motor").select_option("induction")
    while not held:
        page.wait_for_timeout(20)
    held[0].continue_()
    expect(page.get_by_role("textbox", name="Power factor")).to_be_visible()
    page.get_by_role("combobox", name="Kind of motor").select_option("linear")
    expect(page.get_by_role("textbox", name="Winding resistance")).to_have_value("4.7")


def test_the_library_is_searched_and_a_motor_taken_from_it(page: Page, stack: Stack) -> None:
    page.get_by_role("row", name=re.compile("Glaze table")).get_by_role("link").first.click()
    page.get_by_role("link", name="From the library").click()
    expect(page.locator("[data-module=presence]")).to_have_attribute("data-ready", "1")  # the scripts are there
    page.get_by_label("Search").fill("norwend brake")
    rows = page.locator("#records tbody tr")
    expect(rows).to_have_count(1)
    rows.get_by_role("link").click()
    expect(page.get_by_role("link", name="Glazing line 2, Kiln-car lift")).to_be_visible()
    assert serious_violations(page) == []
    page.get_by_role("button", name="Take into Glaze table").click()
    expect(page.get_by_text("Nothing was changed yet.")).to_be_visible()
    assert serious_violations(page) == []
    page.get_by_role("button", name=re.compile(r"Take \d+ change")).click()
    expect(page.get_by_role("textbox", name="Winding resistance")).to_have_value("0.85")
    expect(page.get_by_role("link", name="Norwend SV-90B, with brake")).to_be_visible()


def test_the_marked_shaft_is_turned_by_hand(page: Page, stack: Stack) -> None:
    page.get_by_role("row", name=re.compile("Reject gate")).get_by_role("link").first.click()
    lead(page)
    send_and_store(page)
    step(page, "Feedback")
    page.get_by_role("button", name="Record one turn").click()
    expect(page.get_by_text("turn the marked shaft once, forward")).to_be_visible()
    page.get_by_role("button", name="Turn", exact=True).click()
    expect(page.get_by_role("region", name="Turn by hand").get_by_text("Counts of the marked turn")).to_be_visible(
        timeout=20_000
    )
    counts = stack.drive("reject-gate").status()["counts"]
    assert abs(abs(counts) - stack.drive("reject-gate").read()["feedback.counts"]) < 0.03 * abs(counts)
    assert serious_violations(page) == []


MOST_TABS = 60


def cell_of(key: str, entry: dict[str, Any], values: dict[str, Any]) -> str:
    """A value as a sheet prints it, with unit and convention in words."""
    number = repr(entry["value"]).removesuffix(".0") if isinstance(entry["value"], float) else str(entry["value"])
    labels = {c.key: c.label for c in conventions_for(parameter(key), values)}
    return " ".join(
        part for part in (number, entry.get("unit", ""), labels.get(entry.get("convention", ""), "")) if part
    )


def test_a_rotary_sheet_is_typed_as_it_is_printed_with_hardly_a_tab(page: Page, stack: Stack) -> None:
    wanted = json.loads((DEMO / "axes" / "tile-pusher.json").read_text())["values"]
    tabs = 0

    def tab() -> None:
        nonlocal tabs
        tabs += 1
        page.keyboard.press("Tab")

    page.get_by_role("link", name="New project").focus()
    page.keyboard.press("Enter")
    expect(page.get_by_role("textbox", name="Project")).to_be_focused()
    for text in ("As printed", "", "Cabinet C", None, None, "printed", "printed"):
        if text is not None:
            page.keyboard.type(text)
        tab()
    page.keyboard.press("Enter")
    for title in ENTRY_STEPS:
        expect(page.get_by_role("heading", level=1, name=title)).to_be_visible()
        expect(page.locator("#entries")).to_have_attribute("data-ready", "1")
        page.locator("#fields [name]:not([type=hidden])").first.focus()
        for _ in range(80):
            at = page.evaluate(FOCUSED)
            if at["tag"] == "BUTTON":
                break
            entry = wanted.get(at["name"])
            if entry is not None and at["tag"] == "SELECT" and at["value"] != entry["value"]:
                with form_is_drawn_anew(page, at["name"], entry["value"]):
                    choose(page, at, entry["value"])
                expect(page.locator("form.htmx-request")).to_have_count(0)
            elif entry is not None and at["tag"] == "INPUT":
                page.keyboard.press("Control+a")
                page.keyboard.type(cell_of(at["name"], entry, wanted))
            page.keyboard.press("Enter")
        page.keyboard.press("Control+Enter") if title != "Limits and goal" else page.keyboard.press("Enter")
        expect(page.get_by_text(re.compile(r"Saved as value set \d+\."))).to_be_visible()
    assert tabs <= MOST_TABS
    kept = page.context.request.get(re.sub(r"[^/]+/$", "export/", page.url)).json()["values"]
    for key, entry in wanted.items():
        said = {k: v for k, v in kept[key].items() if k in ("value", "unit", "convention") and v != ""}
        assert said == {k: v for k, v in entry.items() if k in ("value", "unit", "convention")}, key


def test_what_was_typed_and_not_saved_is_there_again_wherever_one_went(page: Page, stack: Stack) -> None:
    page.get_by_role("row", name=re.compile("Kiln-car lift")).get_by_role("link").first.click()
    expect(page.locator("#entries")).to_have_attribute("data-ready", "1")
    field = page.get_by_role("textbox", name="Winding resistance")
    before = field.input_value()
    field.fill("0.91")
    expect(page.get_by_text("1 value is not saved")).to_be_visible()
    page.get_by_role("heading", level=1).click()
    page.keyboard.press("]")
    expect(page.get_by_role("heading", level=1, name="Feedback")).to_be_visible()
    expect(page.get_by_role("navigation", name="Route").get_by_role("link", name="Motor")).to_contain_text(
        "1 not saved"
    )
    page.go_back()
    expect(page.get_by_role("textbox", name="Winding resistance")).to_have_value("0.91")
    page.get_by_role("button", name="Discard").click()
    expect(page.get_by_role("textbox", name="Winding resistance")).to_have_value(before)
    expect(page.get_by_text("is not saved")).to_be_hidden()
