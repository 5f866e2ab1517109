"""A hanging load, in the real interface: from its data over the brake's test to an accepted move."""

import math
import re
import time

import pytest
from playwright.sync_api import Page, expect

from tests.browser.conftest import (
    Stack,
    held,
    lead,
    run_procedure,
    send_and_store,
    serious_violations,
    step,
    stopped_by,
    submit,
    to_its_end,
)

pytestmark = [pytest.mark.browser, pytest.mark.timeout(900)]
STEPS = (  # step, button, its time on a quiet machine [s]
    ("Commutation", "Check and find the offset", 60),
    ("Current loop", "Measure and tune", 60),
    ("Load", "Identify the load", 60),
    ("Velocity loop", "Measure and tune", 90),
    ("Position loop", "Measure and tune", 60),
)


def accept(page: Page) -> None:
    """Accept the proposal, if one waits."""
    button = page.get_by_role("button", name="Accept", exact=True)
    if button.count():
        submit(page, "Accept")


def test_the_lift_goes_from_its_data_to_an_accepted_move(page: Page, stack: Stack) -> None:
    bench = stack.drive("kiln-car-lift")
    page.get_by_role("row", name=re.compile("Kiln-car lift")).get_by_role("link").first.click()
    lead(page)
    send_and_store(page)
    lead(page)
    page.get_by_label("Here is").fill("200")
    submit(page, "Set")
    _open_the_brake_by_hand(page, bench)
    for name, button, seconds in STEPS:
        step(page, name)
        before = bench.status()["position"]
        run_procedure(page, button, seconds=seconds)
        accept(page)
        status = bench.status()
        assert status["mode"] == "off"
        assert status["brake"] == "closed"
        if name == "Current loop":  # nothing is told to move: the load must not
            assert abs(status["position"] - before) < math.radians(1)
    _test_the_brake(page)
    _measure_the_stops(page)
    step(page, "Acceptance")
    _on_the_twin_first(page, bench)
    run_procedure(page, "Run the move", seconds=60)
    expect(page.get_by_text("✓ Passes")).to_be_visible()
    expect(page.get_by_role("button", name="Following error, twin")).to_be_visible()
    expect(page.get_by_role("columnheader", name="twin", exact=True)).to_be_visible()
    assert serious_violations(page) == []


def _on_the_twin_first(page: Page, bench: object) -> None:
    """What the move would give stands there before it is made, and nothing has moved for it."""
    before = bench.status()["position"]
    twin = page.locator("#twin")
    expect(twin.get_by_role("row", name=re.compile("^Settling time"))).to_contain_text("ms")
    expect(twin).to_contain_text("still meet the goal")
    expect(page.get_by_text("The move on the twin: nothing has moved")).to_be_visible()
    assert bench.status()["position"] == before
    assert bench.status()["mode"] == "off"


def _open_the_brake_by_hand(page: Page, bench: object) -> None:
    """It asks whether that is safe; held, it opens, and closes by itself when the load comes down."""
    step(page, "Brake and stops")
    button = page.get_by_role("button", name="Hold, brake open")
    with held(button):
        expect(page.get_by_text("It was not said to be safe.")).to_be_visible()
    assert bench.status()["brake"] == "closed"
    before = bench.status()["position"]
    page.get_by_label("It is safe: what hangs is supported, or may come down.").check()
    with held(button):
        deadline = time.monotonic() + 60
        while not any(e["kind"] == "brake_closed" for e in bench.events()):
            assert time.monotonic() < deadline, "the load was held by nothing, and the drive did not close the brake"
            time.sleep(0.02)
    time.sleep(0.3)  # the brake engages
    assert bench.status()["brake"] == "closed"
    assert abs(bench.status()["position"] - before) > math.radians(15)  # it did come down, and was caught


def _test_the_brake(page: Page) -> None:
    step(page, "Brake and stops")
    page.get_by_label("Torque it must hold").fill("6")
    page.get_by_label("I see the axis; nobody is near it, and it is safe.").check()
    page.get_by_role("button", name="Test the brake", exact=True).click()
    to_its_end(page, seconds=40)
    assert (why := stopped_by(page)) == "", why
    accept(page)
    found = page.get_by_role("row", name=re.compile("^Brake opens after"))
    expect(found.first).to_contain_text(re.compile(r"5[78](\.\d+)?\s+ms"))
    expect(page.locator("#judged")).to_contain_text("✓ Proven")
    assert serious_violations(page) == []


def _measure_the_stops(page: Page) -> None:
    step(page, "Brake and stops")
    page.get_by_label("I see the axis; nobody and nothing is in its way.").first.check()
    page.get_by_role("button", name="Measure the stops", exact=True).click()
    to_its_end(page, seconds=30)
    table = page.get_by_role("table", name="Where the energy went")
    expect(table.get_by_role("row", name=re.compile("^Quick stop"))).to_contain_text("the capacitors took it")
    expect(page.get_by_role("row", name=re.compile("^Brake opens after")).first).to_be_visible()  # not forgotten
