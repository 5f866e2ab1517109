"""Commutation as an engineer does it in the real interface: the good case, a fault, and by hand."""

import math
import re
import time
from collections.abc import Callable, Iterator

import pytest
from playwright.sync_api import Browser, Page, expect

from cadrel.link.stand_in import StandIn
from tests.browser.conftest import ENGINEER, Stack, held, lead, log_in, send_and_store, step, submit


@pytest.fixture
def arm(stack: Stack, chromium: Browser) -> Iterator[Page]:
    """The glaze arm, fresh: connected, led, sent, stored, restarted, standing in the middle of its travel."""
    context = chromium.new_context(viewport={"width": 1280, "height": 800})
    page = context.new_page()
    problems: list[str] = []
    page.on("console", lambda m: problems.append(m.text) if m.type == "error" else None)
    page.on("pageerror", lambda e: problems.append(str(e)))
    log_in(page, stack, ENGINEER)
    page.get_by_role("row", name=re.compile("Glaze arm")).get_by_role("link").first.click()
    lead(page)
    send_and_store(page)
    page.get_by_label("Here is").fill("130")
    submit(page, "Set")
    yield page
    assert problems == []


def until(is_so: Callable[[], bool]) -> None:
    """Wait for what the drive says."""
    deadline = time.monotonic() + 60
    while not is_so():
        assert time.monotonic() < deadline
        time.sleep(0.05)


def agree(page: Page) -> None:
    page.get_by_label("I see the axis; nobody and nothing is in its way.").first.check()


def test_a_resolver_is_checked_corrected_and_its_offset_proven(arm: Page, stack: Stack) -> None:
    step(arm, "Commutation")
    expect(arm.get_by_text("about")).to_contain_text("A rms")
    agree(arm)
    arm.get_by_role("button", name="Check and find the offset").click()
    expect(arm.get_by_text("turning the vector forward")).to_be_visible(timeout=20_000)
    expect(arm.locator("[data-needle=vector]")).to_have_attribute("visibility", "visible")
    expect(arm.locator("[data-dots=raw] circle").nth(5)).to_be_attached()  # the signals draw their circle
    proposal = arm.get_by_role("form", name="Proposal")
    expect(proposal).to_be_visible(timeout=60_000)
    expect(proposal).to_contain_text("Sine over cosine")
    expect(arm.get_by_role("img", name=re.compile("before and after correction"))).to_be_visible()
    arm.get_by_role("button", name="Accept").click()
    expect(arm.get_by_role("link", name="Commutation")).to_contain_text(re.compile(r"± 0\.[1-3]°"))
    bench = stack.drive("glaze-arm")
    assert bench.status()["angle_quality"] == "absolute"
    assert bench.read()["signal.gain"] == pytest.approx(1.021, abs=0.003)


def test_swapped_motor_wires_are_named_and_nothing_is_recorded(arm: Page, stack: Stack) -> None:
    step(arm, "Drive")
    arm.get_by_role("link", name=re.compile("Wiring and faults")).click()
    arm.get_by_label("Two motor phases swapped").check()
    arm.get_by_role("button", name="Rewire").click()
    expect(arm.get_by_text("Rewired")).to_be_visible()
    arm.get_by_role("link", name="Back to the route").click()
    lead(arm)
    arm.get_by_label("Here is").fill("130")
    submit(arm, "Set")
    step(arm, "Commutation")
    agree(arm)
    arm.get_by_role("button", name="Check and find the offset").click()
    job = arm.locator("#job")
    expect(job.get_by_text("The vector turned forward and the counts fell.")).to_be_visible(timeout=60_000)
    expect(job.get_by_text("sine and cosine of the resolver are swapped")).to_be_visible()
    assert stack.drive("glaze-arm").read()["commutation.valid"] == 0.0
    StandIn(stack.link, "glaze-arm").rewire({}, [])


def test_by_hand_the_vector_moves_only_while_a_button_is_held(arm: Page, stack: Stack) -> None:
    step(arm, "Commutation")
    bench = stack.drive("glaze-arm")
    arm.get_by_label("It may turn while I hold a button; I see it.").check()
    submit(arm, "Enable for phasing by hand")
    for name in ("Hold, turn the vector forward", "Hold, step the vector on 30°", "Hold, step the vector back 30°"):
        expect(arm.locator("#phasing")).to_have_attribute("data-ready", "1")
        before = bench.status()["vector_angle"]
        with held(arm.get_by_role("button", name=name)):
            expect(arm.locator("[data-phasing=vector]")).not_to_have_text(f"{math.degrees(before) % 360:.1f}°")
            expect(arm.get_by_label("Current", exact=True)).to_have_text(re.compile(r"^(0\.[1-9]|[1-9])"))
            until(lambda far=before: abs(bench.status()["vector_angle"] - far) > math.radians(29))
            time.sleep(1.0)  # the shaft comes to rest on it
        expect(arm.get_by_label("Current", exact=True)).to_have_text(re.compile(r"^0\.0\d$"))  # the sensor's noise
        stood = bench.status()["vector_angle"]
        submit(arm, "Note this reading")
        assert bench.status()["vector_angle"] == stood
    expect(arm.get_by_role("table", name="Readings").get_by_role("row")).to_have_count(4)
    arm.get_by_role("button", name="Take the offset").click()
    expect(arm.get_by_text("It is not proven")).to_be_visible()
    assert bench.read()["commutation.valid"] == 0.0  # nothing is unlocked yet
    assert bench.status()["mode"] == "off"
    arm.get_by_label("I see the axis; nothing is in its way.").check()
    arm.get_by_role("button", name="Confirm it by pushes").click()
    arm.get_by_role("form", name="Proposal").get_by_role("button", name="Accept").click(timeout=90_000)
    expect(arm.get_by_text("Offset, confirmed")).to_be_visible()
    assert bench.read()["commutation.valid"] == 1.0
