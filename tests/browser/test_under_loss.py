"""What the page says, and what STOP does, while parts of the application are gone."""

import os
import re
import signal
import time

import psycopg
import pytest
from playwright.sync_api import Browser, Page, expect

from cadrel.cli.services import Postgres
from tests.browser.conftest import ENGINEER, Stack, held, lead, log_in, step
from tests.browser.test_safety_and_failures import enable_jog, wait_until_moving, wait_until_off

pytestmark = [pytest.mark.browser, pytest.mark.timeout(300)]
UNWATCHED = 3.0  # [s] of drive time from the page's end to standstill, whatever is dead


@pytest.fixture
def pusher(page: Page, stack: Stack) -> Page:
    """The commissioned axis, connected and led."""
    page.get_by_role("row", name=re.compile("Tile pusher")).get_by_role("link").first.click()
    lead(page)
    wait_until_off(stack.drive("tile-pusher"))  # what the tab of the test before had enabled ends with that tab
    return page


def start_moves(page: Page, *, unattended: bool = False) -> None:
    """Start the acceptance moves and wait until they are under way."""
    step(page, "Acceptance")
    if unattended:
        page.get_by_label("It may go on when no page of mine is open.").check()
    page.get_by_label("I see the axis; nobody and nothing is in its way.").check()
    page.get_by_role("button", name="Run the move").click()
    expect(page.locator("#job").get_by_text("repeating the move")).to_be_visible()


def drive_seconds_until_off(bench: object, since: float) -> float:
    """Drive time from `since` to the power stage's end."""
    deadline = time.monotonic() + 60
    while (status := bench.status())["mode"] != "off":
        assert time.monotonic() < deadline, "the power stage is still on"
        time.sleep(0.02)
    return float(status["time"]) - since


def test_a_run_nobody_watches_stops_and_one_agreed_to_goes_on(pusher: Page, stack: Stack, chromium: Browser) -> None:
    bench = stack.drive("tile-pusher")
    start_moves(pusher)
    context = pusher.context
    pusher.close()
    since = bench.status()["time"]
    assert drive_seconds_until_off(bench, since) < UNWATCHED
    again = context.new_page()
    again.goto(f"{stack.url}/axis/1/acceptance/")
    expect(again.locator("#job")).to_contain_text("nobody watched")
    start_moves(again, unattended=True)
    again.close()
    time.sleep(UNWATCHED + 0.5)
    assert bench.status()["consent"]["unattended"]
    last = context.new_page()
    last.goto(f"{stack.url}/axis/1/acceptance/")
    expect(last.get_by_text("✓ Passes")).to_be_visible(timeout=60_000)


def test_power_goes_off_with_the_tab_that_enabled_it_though_another_is_open(pusher: Page, stack: Stack) -> None:
    bench = stack.drive("tile-pusher")
    other = pusher.context.new_page()
    other.goto(f"{stack.url}/axis/1/load/")
    expect(other.get_by_text("you have control")).to_be_visible()
    enable_jog(pusher)
    time.sleep(2.5)
    assert bench.status()["mode"] == "position"  # as long as its tab is open
    pusher.close()
    since = bench.status()["time"]
    assert drive_seconds_until_off(bench, since) < UNWATCHED
    expect(other.get_by_text("Power stage off")).to_be_visible()


RESERVED = 900.0  # [ms], less than the second for which a button that was heard is nobody else's
ASKS = """async () => {
  const token = document.querySelector("meta[name=csrf]").content;
  const answers = [];
  for (let k = 0; k < 10; k++) {
    const body = new URLSearchParams({ share: "-0.05", holder: "the other tab" });
    const answer = await fetch("/axis/1/jog/", { method: "POST", headers: { "X-CSRFToken": token }, body });
    answers.push([performance.timeOrigin + performance.now(), answer.status]);
  }
  return answers;
}"""
BEATS = """() => performance.getEntriesByType("resource").filter((e) => e.name.endsWith("/jog/"))
  .map((e) => performance.timeOrigin + e.responseEnd)"""


def test_of_two_tabs_the_first_button_held_wins_until_it_is_let_go(pusher: Page, stack: Stack) -> None:
    """On a machine too busy for its beats the first button is not held any more: that round is played again."""
    bench = stack.drive("tile-pusher")
    enable_jog(pusher)
    other = pusher.context.new_page()
    other.goto(f"{stack.url}/axis/1/load/")
    expect(other.locator("#jog")).to_have_attribute("data-ready", "1")
    for _ in range(6):
        pusher.bring_to_front()  # a page in the background holds nothing
        pusher.evaluate("performance.clearResourceTimings()")
        with held(pusher.get_by_role("button", name="Jog forward")):
            wait_until_moving(bench)
            answers = other.evaluate(ASKS)
            velocity = bench.status()["velocity"]
            beats = pusher.evaluate(BEATS)
        wait = time.monotonic() + 60
        while abs(bench.status()["velocity"]) > 1:
            assert time.monotonic() < wait
        obeyed = [at for at, status in answers if status == 204]
        if not obeyed:
            assert velocity > -0.1
            break
        heard = max((at for at in beats if at < obeyed[0]), default=0.0)
        assert obeyed[0] - heard > RESERVED, "the other one was obeyed while the first was held"
    else:
        pytest.fail("no press was heard in time, six times over")
    other.close()
    pusher.get_by_role("button", name="Disable").click()
    wait_until_off(bench)


def test_an_observers_stop_is_told_to_the_engineer_as_what_it_was(
    pusher: Page, stack: Stack, chromium: Browser
) -> None:
    start_moves(pusher)
    context = chromium.new_context(viewport={"width": 1280, "height": 800})
    observer = context.new_page()
    log_in(observer, stack, ("vera", "look-only-please"))
    observer.keyboard.press("Escape")
    expect(observer.get_by_text("STOP was sent to every connected axis.")).to_be_visible()
    wait_until_off(stack.drive("tile-pusher"))
    expect(pusher.locator("#job")).to_contain_text("vera (observer) pressed STOP during")
    expect(pusher.locator("#told")).to_contain_text("vera (observer) pressed STOP")


def test_without_the_web_process_the_strip_lives_and_stop_stops(pusher: Page, stack: Stack) -> None:
    bench = stack.drive("tile-pusher")
    start_moves(pusher)
    (web,) = stack.children("cadrel.web.asgi")
    os.kill(web, signal.SIGSTOP)  # hangs: it takes connections and answers none
    try:
        before = pusher.get_by_label("Position", exact=True).inner_text()
        expect(pusher.get_by_label("Position", exact=True)).not_to_have_text(before)
        pusher.keyboard.press("Escape")
        expect(pusher.get_by_text("STOP was sent to every connected axis.")).to_be_visible(timeout=3000)
        wait_until_off(bench)
    finally:
        os.kill(web, signal.SIGCONT)
    expect(pusher.locator("#job")).to_contain_text("enno (engineer) pressed STOP during")


def test_without_the_live_process_stop_goes_by_the_web_process(pusher: Page, stack: Stack) -> None:
    bench = stack.drive("tile-pusher")
    enable_jog(pusher)
    (live,) = stack.children("cadrel.web.live")
    os.kill(live, signal.SIGSTOP)
    try:
        since = bench.status()["time"]
        pusher.keyboard.press("Escape")
        assert drive_seconds_until_off(bench, since) < 1.0
    finally:
        os.kill(live, signal.SIGCONT)


def test_a_run_outlives_its_database_and_its_result_is_there_afterwards(pusher: Page, stack: Stack) -> None:
    start_moves(pusher)
    database = Postgres(stack.folder, port=stack.database, name="demo")
    pid = database.pid
    assert pid is not None
    os.kill(pid, signal.SIGKILL)
    # The supervisor brings it back; meanwhile the page says what it does not know, and the run goes on.
    expect(pusher.get_by_text("is running")).to_be_hidden(timeout=60_000)
    with psycopg.connect(
        host="127.0.0.1", port=stack.database, user="cadrel", password=database.password, dbname="cadrel"
    ) as connection:
        row = connection.execute("select state from jobs_job order by id desc limit 1").fetchone()
    assert row == ("done",)


def test_a_page_without_a_database_says_so_and_its_stop_works(pusher: Page, stack: Stack) -> None:
    bench = stack.drive("tile-pusher")
    enable_jog(pusher)
    database = Postgres(stack.folder, port=stack.database, name="demo")
    postmaster = database.pid
    assert postmaster is not None
    assert stack.process is not None
    os.kill(stack.process.pid, signal.SIGSTOP)  # or the supervisor would bring it back
    os.kill(postmaster, signal.SIGKILL)
    try:
        expect(pusher.locator("#told")).to_contain_text("The database does not answer")
        answer = pusher.goto(f"{stack.url}/axis/1/load/")
        assert answer is not None
        assert answer.status == 503
        expect(pusher.get_by_role("heading", name="The database does not answer.")).to_be_visible()
        pusher.get_by_role("button", name="STOP").click()
        expect(pusher.get_by_text("STOP was sent to every connected axis.")).to_be_visible(timeout=3000)
        wait_until_off(bench)
    finally:
        os.kill(stack.process.pid, signal.SIGCONT)
    deadline = time.monotonic() + 30
    while (answer := pusher.goto(f"{stack.url}/axis/1/load/")) is None or answer.status != 200:
        assert time.monotonic() < deadline, "the database did not come back"
        time.sleep(0.3)


def test_a_second_supervisor_takes_over_from_one_that_was_killed(stack: Stack, chromium: Browser) -> None:
    assert stack.process is not None
    children = [*stack.children("cadrel.bench"), *stack.children("uvicorn"), *stack.children("jobs.worker")]
    assert len(children) == 4
    stack.process.kill()
    stack.process.wait()
    deadline = time.monotonic() + 60
    while any(os.path.exists(f"/proc/{pid}") and _runs(pid) for pid in children):
        assert time.monotonic() < deadline, "children outlived their supervisor"
        time.sleep(0.1)
    (stack.folder / "demo.log").write_bytes(b"")
    stack.link.close()
    stack.start()
    context = chromium.new_context()
    page = context.new_page()
    log_in(page, stack, ENGINEER)


def _runs(pid: int) -> bool:
    try:
        with open(f"/proc/{pid}/stat") as file:
            return file.read().rpartition(")")[2].split()[0] != "Z"
    except OSError:
        return False
