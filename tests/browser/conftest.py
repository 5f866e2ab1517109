"""The real stack, started as its user would, and headless Chromium."""

import json
import os
import re
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Locator, Page, Playwright, expect, sync_playwright

from cadrel.cli.services import is_free
from cadrel.cli.stack import shared_secret
from cadrel.link import LinkedDrive, TcpLink

CHROMIUM = "--no-sandbox --disable-gpu --disable-background-networking --disable-component-update".split()
expect.set_options(timeout=15_000)  # how long to wait for a state on a busy machine; no claim about speed
ENGINEER = ("enno", "glaze-and-fire")
AXE = Path(__file__).parent / "vendor" / "axe" / "axe.min.js"


def free_ports(count: int) -> list[int]:
    first = 8520 + 60 * int(os.environ.get("PYTEST_XDIST_WORKER", "gw0")[2:])  # stacks side by side do not race
    return [p for p in range(first, first + 60) if is_free(p)][:count]


class Stack:
    """The demonstration in processes of its own, on free ports, in a folder of its own."""

    def __init__(self, folder: Path) -> None:
        self.web, self.bench_port, self.database, self.live = free_ports(4)
        self.folder = folder
        self.environment = os.environ | {
            "CADREL_VAR": str(folder),
            "CADREL_WEB_PORT": str(self.web),
            "CADREL_BENCH_PORT": str(self.bench_port),
            "CADREL_DB_PORT": str(self.database),
            "CADREL_LIVE_PORT": str(self.live),
        }
        self.url = f"http://127.0.0.1:{self.web}"
        self.live_url = f"http://127.0.0.1:{self.live}"
        self.link = TcpLink("127.0.0.1", self.bench_port, secret=shared_secret(folder, "demo"))
        self.process: subprocess.Popen[bytes] | None = None

    def start(self, *arguments: str) -> None:
        """Start, and wait until the page answers."""
        begun = time.monotonic()
        with open(self.folder / "demo.log", "ab") as log:
            self.process = subprocess.Popen(
                [sys.executable, "-m", "cadrel.cli.demo", *arguments], env=self.environment, stdout=log, stderr=log
            )
        while b"Cadrel is at" not in (self.folder / "demo.log").read_bytes():
            assert self.process.poll() is None, (self.folder / "demo.log").read_text()
            assert time.monotonic() < begun + 180, "the demonstration did not start"
            time.sleep(0.1)

    def stop(self) -> int:
        """End it as Ctrl-C would; returns its exit status."""
        assert self.process is not None
        self.link.close()  # the next question connects anew
        self.process.send_signal(signal.SIGINT)
        status = self.process.wait(timeout=40)
        (self.folder / "demo.log").write_bytes(b"")
        return status

    def drive(self, axis: str) -> LinkedDrive:
        """The bench itself, for looking at effects."""
        return LinkedDrive(self.link, axis)

    def children(self, word: str) -> list[int]:
        """Process ids of the stack's children whose command line holds a word; from /proc, a bare machine has no ps."""
        assert self.process is not None
        found = []
        for folder in Path("/proc").glob("[0-9]*"):
            with suppress(OSError):  # it may end while it is looked at
                parent = int((folder / "stat").read_text().rpartition(")")[2].split()[1])
                if parent == self.process.pid and word in (folder / "cmdline").read_text().replace("\0", " "):
                    found.append(int(folder.name))
        return found


@pytest.fixture(scope="session")
def stack(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Stack]:
    made = Stack(tmp_path_factory.mktemp("stack"))
    made.start()
    yield made
    made.link.close()
    if made.process is not None and made.process.poll() is None:
        made.stop()


@pytest.fixture(scope="session")
def playwright() -> Iterator[Playwright]:
    with sync_playwright() as started:
        yield started


@pytest.fixture
def chromium(playwright: Playwright) -> Iterator[Browser]:
    """A browser for one test, closed with all its pages: one that does not end when told to is killed after a while.

    A context that is closed is waited for without end; pages left open would watch the runs of the tests that follow.
    """
    browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=CHROMIUM)
    yield browser
    browser.close()


@pytest.fixture
def page(stack: Stack, chromium: Browser) -> Iterator[Page]:
    """A logged-in engineer; any console error fails the test, and so does any request to elsewhere."""
    context = chromium.new_context(viewport={"width": 1280, "height": 800})
    page = context.new_page()
    page.set_default_timeout(15_000)
    complaints: list[str] = []
    page.on("console", lambda m: complaints.append(m.text) if m.type == "error" else None)
    page.on("pageerror", lambda e: complaints.append(str(e)))
    own = (stack.url, stack.live_url, "data:")
    page.on("request", lambda r: None if r.url.startswith(own) else complaints.append(r.url))
    log_in(page, stack)
    yield page
    # What the tests provoke on purpose: a refused form, a process that is killed, a database that is away.
    provoked = ("422", "409", "503", "ERR_INCOMPLETE_CHUNKED_ENCODING", "ERR_CONNECTION_RE", "ERR_EMPTY_RESPONSE")
    allowed = [c for c in complaints if any(word in c for word in provoked)]
    assert [c for c in complaints if c not in allowed] == []


def log_in(page: Page, stack: Stack, user: tuple[str, str] = ENGINEER) -> None:
    page.goto(f"{stack.url}/login/")
    page.get_by_label("User name").fill(user[0])
    page.get_by_label("Password").fill(user[1])
    page.get_by_role("button", name="Log in").click()
    expect(page.get_by_role("heading", name="Projects")).to_be_visible()


def step(page: Page, name: str) -> None:
    """Go to a step by the route."""
    # From the beginning of its name: what follows there is the step's line of result, in which any word may stand.
    route = page.get_by_role("navigation", name="Route")
    route.get_by_role("link", name=re.compile(rf"^\s*{re.escape(name)}\b")).click()
    expect(page.get_by_role("heading", level=1, name=name)).to_be_visible()
    expect(page.locator("#strip")).to_have_attribute("data-ready", "1")  # the scripts are there, and answer


def run_procedure(page: Page, button: str, *, seconds: float) -> None:
    """Consent, start, and wait for the end."""
    page.get_by_label("I see the axis; nobody and nothing is in its way.").last.check()
    page.get_by_role("button", name=button, exact=True).click()
    to_its_end(page, seconds=seconds)
    assert (why := stopped_by(page)) == "", why


def to_its_end(page: Page, *, seconds: float) -> None:
    """Wait for the end of the run: so long on a quiet machine, three times that on a busy one."""
    expect(page.get_by_text("is running")).to_be_visible()
    expect(page.get_by_text("is running")).to_be_hidden(timeout=3000 * seconds)
    page.wait_for_load_state()  # the page is loaded anew at the end: nothing is looked for on half of it
    expect(page.locator("#strip")).to_have_attribute("data-ready", "1")


def stopped_by(page: Page) -> str:
    """Why the last run of this step did not come to its end; empty where it did. The page may be on its way yet."""
    job = page.locator("#job")
    try:
        expect(job).to_have_count(0)
    except AssertionError:
        return job.inner_text()
    return ""


def lead(page: Page) -> None:
    """Connect the axis, reset a fault and take control, as far as that is not done."""
    step(page, "Drive")
    if page.get_by_role("button", name="Connect", exact=True).count():
        submit(page, "Connect")
    expect(page.get_by_label("DC bus")).not_to_have_text("–")
    if page.get_by_role("button", name="Reset the fault").count():
        submit(page, "Reset the fault")
    if page.get_by_role("button", name="Take control").is_visible():
        submit(page, "Take control")
    expect(page.get_by_text("you have control")).to_be_visible()


def submit(page: Page, button: str) -> None:
    """Press a button and wait for the page that answers; what is looked at next is not the old page."""
    with page.expect_navigation():
        page.get_by_role("button", name=button, exact=True).click()


def send_and_store(page: Page) -> None:
    """Bring the project's values into the drive for good, and restart it where that is asked for; leading it."""
    for button in ("Send all to the drive", "Store permanently", "Restart the drive"):
        found = page.get_by_role("button", name=button)
        if found.count() and found.is_enabled():
            submit(page, button)
    expect(page.get_by_text("Project and drive agree.")).to_be_visible()


@contextmanager
def held(button: Locator) -> Iterator[None]:
    """Hold a button with the mouse, where it can be seen."""
    button.evaluate("b => b.scrollIntoView({ block: 'center' })")
    box = button.bounding_box()
    assert box is not None
    mouse = button.page.mouse
    mouse.move(box["x"] + box["width"] / 2, box["y"] + box["height"] / 2)
    mouse.down()
    try:
        yield
    finally:
        mouse.up()


def serious_violations(page: Page) -> list[str]:
    """What axe finds of serious or critical impact."""
    page.evaluate(AXE.read_text())  # as the debugger would, past the page's policy
    found = page.evaluate("async () => (await axe.run({resultTypes: ['violations']})).violations")
    return [
        f"{v['id']}: {json.dumps([n['target'] for n in v['nodes']][:4])}"
        for v in found
        if v["impact"] in ("serious", "critical")
    ]
