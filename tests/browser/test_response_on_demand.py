"""A frequency response asked for in its own numbers, read off, taken along."""

import re

import numpy as np
import pyuff
from playwright.sync_api import Page, expect

from tests.browser.conftest import Stack, lead, serious_violations, step, to_its_end


def test_a_response_is_asked_for_read_and_taken_along_and_changes_nothing(page: Page, stack: Stack) -> None:
    bench = stack.drive("tile-pusher")
    page.get_by_role("row", name=re.compile("Tile pusher")).get_by_role("link").first.click()
    lead(page)
    step(page, "Velocity loop")
    before = bench.read()
    form = page.locator("form", has=page.get_by_role("button", name="Measure the response"))
    form.get_by_label(re.compile("^From")).fill("20")
    form.get_by_label(re.compile("^To")).fill("500")
    form.get_by_label("Lines").fill("40")
    form.get_by_label(re.compile("^Loop")).select_option("velocity")
    form.get_by_label(re.compile("^The axis")).select_option("in motion")
    start = form.get_by_role("button", name="Measure the response")
    expect(start).to_be_disabled()
    form.get_by_label("I see the axis; nobody is near it, and it is safe.").check()
    start.click()
    expect(page.get_by_role("button", name="Abort")).to_be_visible()
    to_its_end(page, seconds=160)
    assert bench.status()["mode"] == "off"
    assert bench.read() == before
    page.get_by_role("contentinfo", name="Runs").get_by_role("link", name=re.compile("Response, velocity loop")).click()
    expect(page.get_by_role("heading", level=1, name=re.compile("Response, velocity loop"))).to_be_visible()
    plots = page.get_by_label("Plots")
    for title in ("controlled", "open", "closed"):
        expect(plots).to_contain_text(title)
    assert serious_violations(page) == []
    with page.expect_download() as taken:
        page.get_by_role("link", name="UFF 58").click()
    plant = pyuff.UFF(str(taken.value.path())).read_sets(0)
    frequency = np.asarray(plant["x"])
    assert len(frequency) >= 25
    assert 15.0 < frequency.min() < 25.0
    assert 400.0 < frequency.max() <= 501.0
    # A mass that is accelerated: an octave up half the speed, but for what resonates.
    size = np.abs(plant["data"])
    assert size[0] > size[-1]
