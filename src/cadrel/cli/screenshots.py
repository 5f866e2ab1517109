"""The pictures of docs/screenshots, taken anew from a running, freshly loaded demonstration."""

import re
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

CHROMIUM = "--no-sandbox --disable-gpu --disable-background-networking --disable-component-update".split()
WIDTH, HEIGHT = 1280, 800
SEEN = "I see the axis; nobody and nothing is in its way."
Page = Any  # Playwright's, imported late: only this command and the tests need it


def _axis(page: Page, url: str, axis: str, step: str) -> None:
    page.goto(url)
    page.get_by_role("row", name=re.compile(axis)).get_by_role("link").first.click()
    page.get_by_role("navigation", name="Route").get_by_role("link", name=step).click()
    page.get_by_role("heading", level=1, name=step).wait_for()
    page.wait_for_load_state("load")


def _press(page: Page, *names: str) -> None:
    """Press those of the buttons that are there."""
    for name in names:
        button = page.get_by_role("button", name=name, exact=True)
        if button.count() and button.first.is_visible() and button.first.is_enabled():
            with page.expect_navigation():
                button.first.click()


def _lead(page: Page, url: str, axis: str, *, here: str = "") -> None:
    _axis(page, url, axis, "Drive")
    _press(page, "Connect", "Take control", "Send all to the drive", "Store permanently", "Restart the drive")
    if here:
        page.get_by_label("Here is").fill(here)
        _press(page, "Set")


def _plain(axis: str, step: str) -> Callable[[Page, str], None]:
    return lambda page, url: _axis(page, url, axis, step)


def _mislabelled(page: Page, url: str) -> None:
    _axis(page, url, "Kiln-car lift", "Motor")
    page.get_by_label("Convention of Back-EMF constant").select_option("line to line, peak")
    page.get_by_text("They agree if").first.wait_for()


def _dragged(page: Page, url: str) -> None:
    _axis(page, url, "Tile pusher", "Velocity loop")
    page.locator("#gains[data-ready='1']").wait_for()
    handle = page.locator(".front .handle").bounding_box()
    assert handle is not None
    x, y = handle["x"] + handle["width"] / 2, handle["y"] + handle["height"] / 2
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x - 30, y + 30, steps=5)
    page.mouse.up()
    page.wait_for_timeout(1500)


def _led_drive(page: Page, url: str) -> None:
    _lead(page, url, "Tile pusher")
    _axis(page, url, "Tile pusher", "Drive")


def _played(page: Page, url: str) -> None:
    _lead(page, url, "Tile pusher")
    _axis(page, url, "Tile pusher", "Load")
    form = page.locator("form").filter(has=page.get_by_role("button", name="Look for play"))
    form.get_by_role("checkbox").check()
    form.get_by_role("button", name="Look for play").click()
    page.get_by_role("button", name="Abort").wait_for()
    page.get_by_role("button", name="Abort").wait_for(state="detached", timeout=120_000)
    page.evaluate("window.scrollTo(0, 0)")


def _by_hand(page: Page, url: str) -> None:
    _lead(page, url, "Glaze arm", here="130")
    _axis(page, url, "Glaze arm", "Commutation")
    page.get_by_label("It may turn while I hold a button; I see it.").check()
    _press(page, "Enable for phasing by hand")
    box = page.get_by_role("button", name="Hold, turn the vector forward").bounding_box()
    page.mouse.move(box["x"] + 20, box["y"] + 20)
    page.mouse.down()
    page.wait_for_timeout(2500)


def _stand_in(page: Page, url: str) -> None:
    page.mouse.up()
    _axis(page, url, "Glaze arm", "Drive")
    page.get_by_role("link", name=re.compile("Wiring and faults")).click()
    page.get_by_role("button", name="Rewire").wait_for()


def _run(page: Page, url: str) -> None:
    _axis(page, url, "Tile pusher", "Velocity loop")
    page.get_by_role("link", name="all of them").click()
    page.get_by_role("row", name=re.compile("Velocity loop, frequency")).first.get_by_role("link").click()
    page.get_by_role("heading", level=1, name=re.compile("^Run")).wait_for()


def _in_one_go(page: Page, url: str) -> None:
    _axis(page, url, "Glaze table", "Drive")
    page.get_by_role("link", name="In one go").click()
    page.get_by_label("It stands at").fill("0")
    page.get_by_label("I see the axis, and stay with it").check()
    page.get_by_role("button", name="Go through").click()
    page.locator("#through tr.through", has_text="Current loop").wait_for(timeout=120_000)
    page.wait_for_timeout(3000)


VIEWS: dict[str, Callable[[Page, str], None]] = {
    "projects": lambda page, url: page.goto(url),
    "motor": _mislabelled,
    "feedback-serial": _plain("Kiln-car lift", "Feedback"),
    "mechanics": _plain("Kiln-car lift", "Mechanics"),
    "power": _plain("Kiln-car lift", "Power"),
    "limits": _plain("Spray carriage", "Limits and goal"),
    "velocity-loop": _dragged,
    "current-loop": _plain("Tile pusher", "Current loop"),
    "position-loop": _plain("Tile pusher", "Position loop"),
    "stops": _plain("Tile pusher", "Brake and stops"),
    "acceptance": _plain("Tile pusher", "Acceptance"),
    "run": _run,
    "drive": _led_drive,
    "load": _played,
    "commutation": _plain("Tile pusher", "Commutation"),
    "hand-over": _plain("Tile pusher", "Hand-over"),
    "in-one-go": _in_one_go,
    "phasing-by-hand": _by_hand,
    "stand-in": _stand_in,
}


def screenshots(*, url: str, out: Path, only: list[str]) -> int:
    """Take the pictures (all, or those named); exit status 2 if a name is unknown or nothing answers."""
    from playwright.sync_api import Error, sync_playwright

    unknown = [name for name in only if name not in VIEWS]
    if unknown:
        print(f"cadrel: there is no view {unknown[0]}; there are {', '.join(VIEWS)}.", file=sys.stderr)
        return 2
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=CHROMIUM)
        page = browser.new_page(viewport={"width": WIDTH, "height": HEIGHT})
        try:
            page.goto(f"{url}login/")
            page.get_by_label("User name").fill("enno")
            page.get_by_label("Password").fill("glaze-and-fire")
            page.get_by_role("button", name="Log in").click()
            page.get_by_role("heading", name="Projects").wait_for()
        except Error:
            print(f"cadrel: no demonstration answers at {url}; start bin/demo --reset first.", file=sys.stderr)
            return 2
        for name in only or VIEWS:
            VIEWS[name](page, url)
            page.wait_for_timeout(1200)  # plots, fonts and the first live values
            page.screenshot(path=out / f"{name}.png")
            page.evaluate("localStorage.clear()")  # what was typed for one picture is not in the next
            print(name, flush=True)
        browser.close()
    return 0
