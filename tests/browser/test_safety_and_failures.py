"""What must hold when a hand, a page, a process or a line lets go."""

import os
import re
import signal
import socket
import subprocess
import sys
import time

import psycopg
import pytest
from playwright.sync_api import Browser, Page, expect

from cadrel.cli.services import Postgres
from tests.browser.conftest import Stack, held, lead, log_in, serious_violations, step, to_its_end

pytestmark = [pytest.mark.browser, pytest.mark.timeout(300)]
LIMIT = 0.2  # [s] from letting go to standstill
TRIES = 4  # every one of them counts; by the drive's own clock, since this machine shares its cores with a browser


@pytest.fixture
def pusher(page: Page, stack: Stack) -> Page:
    """The commissioned axis, connected and led."""
    page.get_by_role("row", name=re.compile("Tile pusher")).get_by_role("link").first.click()
    lead(page)
    wait_until_off(stack.drive("tile-pusher"))  # what the tab of the test before had enabled ends with that tab
    return page


def enable_jog(page: Page) -> None:
    step(page, "Load")
    if page.get_by_role("button", name="Enable for jogging").count():
        page.locator("#jog").get_by_label("I see the axis; nobody and nothing is in its way.").check()
        page.get_by_role("button", name="Enable for jogging").click()
    expect(page.locator("#jog")).to_have_attribute("data-ready", "1")
    expect(page.get_by_role("button", name="Jog forward")).to_be_visible()


def wait_until_moving(bench: object) -> None:
    deadline = time.monotonic() + 60
    while abs(bench.status()["velocity"]) < 5:
        assert time.monotonic() < deadline, "the axis did not move"
        time.sleep(0.01)


def wait_until_off(bench: object) -> None:
    """By the clock on the wall, which a busy machine's drive time falls behind: how soon is not the claim here."""
    deadline = time.monotonic() + 60
    while bench.status()["mode"] != "off":
        assert time.monotonic() < deadline, "the power stage is still on"
        time.sleep(0.02)


def drive_seconds_to_standstill(bench: object, since: int) -> float:
    """From the last jog command the drive heard to standstill, by the drive's own clock and log."""
    deadline = time.monotonic() + 60
    while True:
        ended = [e for e in bench.events(since) if e["kind"] == "jog_ended"]
        if ended:
            return float(ended[-1]["facts"]["after"])
        assert time.monotonic() < deadline, "the jog did not end"
        time.sleep(0.02)


def test_jog_stops_when_the_button_is_let_go(pusher: Page, stack: Stack) -> None:
    bench = stack.drive("tile-pusher")
    enable_jog(pusher)
    took = []
    for button in ["Jog backward", "Jog forward"] * (TRIES // 2):
        since = bench.status()["events"]
        with held(pusher.get_by_role("button", name=button)):
            wait_until_moving(bench)
        took.append(drive_seconds_to_standstill(bench, since))
    assert max(took) < LIMIT, took


def test_jog_stops_when_the_page_goes_away(pusher: Page, stack: Stack) -> None:
    bench = stack.drive("tile-pusher")
    enable_jog(pusher)
    pusher.get_by_role("button", name="Jog forward").evaluate("b => b.scrollIntoView({ block: 'center' })")
    box = pusher.get_by_role("button", name="Jog forward").bounding_box()
    assert box is not None
    pusher.mouse.move(box["x"] + 20, box["y"] + 20)
    pusher.mouse.down()
    wait_until_moving(bench)
    since = bench.status()["events"]
    pusher.close(run_before_unload=False)
    assert drive_seconds_to_standstill(bench, since) < LIMIT
    wait_until_off(bench)  # without the page the lease runs out, and power is cut


def test_jog_stops_when_the_web_process_freezes(pusher: Page, stack: Stack) -> None:
    bench = stack.drive("tile-pusher")
    (web,) = stack.children("cadrel.web.asgi")
    enable_jog(pusher)
    with held(pusher.get_by_role("button", name="Jog forward")):
        wait_until_moving(bench)
        since = bench.status()["events"]
        os.kill(web, signal.SIGSTOP)
        try:
            took = drive_seconds_to_standstill(bench, since)
        finally:
            os.kill(web, signal.SIGCONT)
    assert took < LIMIT


def test_jog_works_by_keyboard(pusher: Page, stack: Stack) -> None:
    bench = stack.drive("tile-pusher")
    enable_jog(pusher)
    pusher.get_by_role("button", name="Jog backward").focus()
    since = bench.status()["events"]
    pusher.keyboard.down("Space")
    wait_until_moving(bench)
    pusher.keyboard.up("Space")
    assert drive_seconds_to_standstill(bench, since) < LIMIT


def test_escape_stops_from_every_page(pusher: Page, stack: Stack) -> None:
    bench = stack.drive("tile-pusher")
    for place in ("Motor", "Velocity loop", "Hand-over", None):
        enable_jog(pusher)
        if place is None:
            pusher.get_by_role("link", name="Cadrel", exact=True).click()
            expect(pusher.get_by_role("heading", name="Projects")).to_be_visible()
        else:
            step(pusher, place)
        pusher.keyboard.press("Escape")
        expect(pusher.get_by_text("STOP was sent to every connected axis.")).to_be_visible()
        wait_until_off(bench)
        if place is None:
            pusher.get_by_role("row", name=re.compile("Tile pusher")).get_by_role("link").first.click()
    enable_jog(pusher)
    pusher.get_by_role("button", name="STOP").click()
    expect(pusher.get_by_text("STOP was sent to every connected axis.")).to_be_visible()
    assert bench.status()["mode"] == "off"


def test_the_page_shows_who_else_has_control(pusher: Page, stack: Stack) -> None:
    other = stack.drive("tile-pusher")
    other.take_control("service laptop", force=True)
    expect(pusher.get_by_text("service laptop has control")).to_be_visible()
    other.give_control()


def test_a_wiring_fault_is_named_in_the_interface(page: Page, stack: Stack) -> None:
    page.get_by_role("row", name=re.compile("Reject gate")).get_by_role("link").first.click()
    # In one go from an axis that is not even connected: it stops where something is wrong, and leads there.
    page.get_by_role("link", name="In one go").click()
    page.get_by_label("I see the axis, and stay with it").check()
    page.get_by_role("button", name="Go through").click()
    stopped = page.get_by_role("status").filter(has_text="Commutation went no further.")
    expect(stopped).to_contain_text("The vector turned forward and the counts fell.", timeout=60_000)
    assert stack.drive("reject-gate").status()["consent"] is None
    assert serious_violations(page) == []
    stopped.get_by_role("link", name="Go there").click()
    job = page.locator("#job")
    expect(job.get_by_text("The vector turned forward and the counts fell.")).to_be_visible(timeout=30_000)
    expect(page.get_by_text("Invert the counting direction, or exchange two motor phases if")).to_be_visible()
    expect(page.get_by_role("button", name="Invert the counting direction")).to_be_enabled()
    assert serious_violations(page) == []


def test_an_aborted_run_counts_for_nothing(pusher: Page, stack: Stack) -> None:
    step(pusher, "Acceptance")
    pusher.get_by_label("I see the axis; nobody and nothing is in its way.").check()
    pusher.get_by_role("button", name="Run the move").click()
    pusher.get_by_role("button", name="Abort").click()
    expect(pusher.get_by_text("The run was aborted during")).to_be_visible()
    assert stack.drive("tile-pusher").status()["mode"] == "off"


def test_a_bench_that_dies_interrupts_the_run_and_a_retry_works(pusher: Page, stack: Stack) -> None:
    step(pusher, "Acceptance")
    agree = pusher.get_by_label("I see the axis; nobody and nothing is in its way.")
    agree.check()
    pusher.get_by_role("button", name="Run the move").click()
    expect(pusher.get_by_text("repeating the move")).to_be_visible()
    (bench,) = stack.children("cadrel.bench")
    os.kill(bench, signal.SIGSTOP)  # alive, and silent: the line is dead
    try:
        expect(pusher.locator("#job").get_by_text("Interrupted")).to_be_visible(timeout=20_000)
    finally:
        os.kill(bench, signal.SIGCONT)
    route = pusher.get_by_role("navigation", name="Route")
    expect(route.get_by_role("link", name="Acceptance")).to_contain_text("interrupted")
    expect(pusher.get_by_label("DC bus")).not_to_have_text("–")
    pusher.reload()
    agree.check()
    pusher.get_by_role("button", name="Run the move").click()
    # The verdict of the run before stands there meanwhile: only the end of this one says that the retry worked.
    to_its_end(pusher, seconds=30)
    expect(pusher.get_by_text("✓ Passes")).to_be_visible()


def test_a_killed_worker_leaves_no_run_behind(pusher: Page, stack: Stack) -> None:
    step(pusher, "Acceptance")
    pusher.get_by_label("I see the axis; nobody and nothing is in its way.").check()
    pusher.get_by_role("button", name="Run the move").click()
    expect(pusher.get_by_text("repeating the move", exact=True)).to_be_visible()
    (worker,) = stack.children("jobs.worker")
    os.kill(worker, signal.SIGKILL)
    bench = stack.drive("tile-pusher")
    expect(pusher.locator("#job").get_by_text("Interrupted")).to_be_visible(timeout=20_000)
    assert bench.status()["mode"] == "off"  # the page is open, and does not keep alive what the worker commanded
    # The supervisor brings a new worker, and the same run works.
    pusher.reload()
    pusher.get_by_label("I see the axis; nobody and nothing is in its way.").check()
    pusher.get_by_role("button", name="Run the move").click()
    expect(pusher.get_by_text("✓ Passes")).to_be_visible(timeout=60_000)


def test_an_observer_sees_the_axis_but_no_way_to_move_it(stack: Stack, chromium: Browser) -> None:
    context = chromium.new_context(viewport={"width": 1280, "height": 800})
    page = context.new_page()
    log_in(page, stack, ("vera", "look-only-please"))
    page.get_by_role("row", name=re.compile("Tile pusher")).get_by_role("link").first.click()
    step(page, "Load")
    expect(page.get_by_role("button", name="STOP")).to_be_visible()
    assert page.get_by_role("button", name=re.compile("Identify|Enable|Take control")).count() == 0


def test_no_page_scrolls_sideways_and_none_has_serious_violations(pusher: Page) -> None:
    for name in (
        "Motor",
        "Feedback",
        "Mechanics",
        "Power",
        "Limits and goal",
        "Drive",
        "Commutation",
        "Current loop",
        "Load",
        "Velocity loop",
        "Position loop",
        "Acceptance",
        "Hand-over",
    ):
        step(pusher, name)
        assert serious_violations(pusher) == [], name
        wide = pusher.evaluate(
            "() => document.documentElement.scrollWidth + document.querySelector('main').scrollWidth "
            "- document.querySelector('main').clientWidth"
        )
        assert wide <= 1280, name


def scenario_rows(stack: Stack) -> list[int]:
    """Ids of the demonstration's projects and runs, as the database has them."""
    database = Postgres(stack.folder, port=stack.database, name="demo")
    with psycopg.connect(
        host="127.0.0.1", port=stack.database, user="cadrel", password=database.password, dbname="cadrel"
    ) as connection:
        rows = connection.execute("SELECT id FROM projects_project UNION ALL SELECT id FROM runs_run").fetchall()
    return sorted(row[0] for row in rows)


def test_a_second_start_makes_nothing_twice_and_a_port_in_use_is_one_sentence(stack: Stack) -> None:
    before = scenario_rows(stack)
    assert stack.stop() == 0
    taken = socket.create_server(("127.0.0.1", stack.web))
    refused = subprocess.run(
        [sys.executable, "-m", "cadrel.cli.demo"],
        env=stack.environment,
        capture_output=True,
        text=True,
        timeout=60,
        check=False,
    )
    taken.close()
    assert refused.returncode == 2
    assert refused.stderr.count("\n") == 1
    assert f"port {stack.web}, for the web, is in use by" in refused.stderr
    stack.start()
    assert scenario_rows(stack) == before  # neither made anew nor loaded again
