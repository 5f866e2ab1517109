"""Projects, people and one's own password, as an administrator and an engineer see them."""

import re

import pytest
from playwright.sync_api import Browser, Page, expect

from tests.browser.conftest import Stack, log_in, serious_violations

pytestmark = [pytest.mark.browser, pytest.mark.timeout(120)]
ADMINISTRATOR = ("amir", "keys-of-the-line")


def test_an_administrator_adds_an_axis_and_a_person_and_lays_aside(stack: Stack, chromium: Browser) -> None:
    context = chromium.new_context(viewport={"width": 1280, "height": 800})
    page = context.new_page()
    complaints: list[str] = []
    page.on("console", lambda m: complaints.append(m.text) if m.type == "error" else None)
    log_in(page, stack, ADMINISTRATOR)
    assert serious_violations(page) == []
    line = page.locator(".project").filter(has_text="Glazing line 2")
    line.get_by_role("link", name="Names, drives, axes").click()
    assert serious_violations(page) == []
    drive = page.get_by_role("region", name="Cabinet A, reject gate")
    drive.get_by_text("Add an axis of this drive").click()
    drive.get_by_role("textbox", name="Axis", exact=True).last.fill("Gate, lower")
    drive.get_by_label("In the drive").last.fill("lower-gate")
    drive.get_by_role("button", name="Add", exact=True).click()
    expect(page.get_by_text("Gate, lower is added.")).to_be_visible()
    lower = page.locator(".axis-thing", has=page.locator("input[value='Gate, lower']"))
    lower.get_by_role("button", name="Lay aside").click()
    expect(page.get_by_text("Gate, lower is laid aside.")).to_be_visible()
    page.get_by_role("link", name="People").click()
    assert serious_violations(page) == []
    page.get_by_label("User name").fill("kim")
    page.get_by_label("First password, 8 characters or more").fill("a-long-password")
    page.get_by_role("button", name="Add", exact=True).click()
    expect(page.get_by_text("kim can log in as observer.")).to_be_visible()
    page.get_by_role("link", name="Your account").click()
    assert serious_violations(page) == []
    assert complaints == []


def test_an_engineer_sees_what_comes_next_and_no_people(page: Page, stack: Stack) -> None:
    row = page.get_by_role("row", name=re.compile("Glaze table"))
    expect(row.get_by_role("link").last).to_be_visible()
    expect(page.get_by_role("link", name="People")).to_have_count(0)
    answer = page.context.request.get(f"{stack.url}/people/")
    assert answer.status == 403
