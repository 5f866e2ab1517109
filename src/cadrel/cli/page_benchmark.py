"""Page times with many recorded runs, over HTTP against the real server on a database of its own."""

import html
import itertools
import os
import re
import tempfile
import time
import urllib.parse
import urllib.request
from collections.abc import Callable
from http.cookiejar import CookieJar
from pathlib import Path

from cadrel.cli.demo import LOGINS
from cadrel.cli.services import is_free
from cadrel.cli.stack import Stack

Times = tuple[list[float], list[float]]
STEPS = ("motor", "limits", "drive", "commutation", "current", "load", "velocity", "position", "acceptance", "handover")


def measure_pages(*, runs: int, requests: int) -> Times:
    """Return the seconds of each page request, after one warm-up of every page; and of live checks while typing."""

    def visit(opener: urllib.request.OpenerDirector, web: int) -> Times:
        urls = [f"http://127.0.0.1:{web}/axis/1/{s}/" for s in STEPS]
        for url in urls:
            opener.open(url).read()
        pages = [_timed(opener, url) for url in itertools.islice(itertools.cycle(urls), requests)]
        return pages, _previews(opener, web, requests)

    return _with_stack(runs, visit)


def _with_stack(runs: int, visit: Callable[[urllib.request.OpenerDirector, int], Times]) -> Times:
    web, bench, database, live = itertools.islice((p for p in range(8600, 8700) if is_free(p)), 4)
    with tempfile.TemporaryDirectory() as folder:
        os.environ["CADREL_VAR"] = folder
        stack = Stack(Path(folder), name="benchmark", web=web, bench=bench, database=database, live=live)
        try:
            stack.start_database()
            _fill(Path(folder), bench, runs)
            stack.start_processes()
            return visit(_log_in(web), web)
        finally:
            stack.stop()
            stack.postgres.remove()


def _previews(opener: urllib.request.OpenerDirector, web: int, requests: int) -> list[float]:
    url = f"http://127.0.0.1:{web}/axis/1/motor/"
    page = opener.open(url).read().decode()
    form = {k: html.unescape(v) for k, v in re.findall(r'<input[^>]* name="([^"]+)" value="([^"]*)"', page)}
    for name, options in re.findall(r'<select[^>]* name="([^"]+)"[^>]*>(.*?)</select>', page, re.S):
        chosen = re.search(r'<option(?: value="([^"]*)")? selected>([^<]*)', options)
        if chosen:
            form[name] = html.unescape(chosen[1] or chosen[2])
    times = []
    for k in range(requests + 1):
        form["sheet.resistance"] = f"{2.0 + k / 100:.2f}"  # another value each time: nothing is answered from memory
        body = urllib.parse.urlencode(form).encode()
        times.append(_timed(opener, urllib.request.Request(url + "preview/", body, {"Referer": url})))
    return times[1:]


def _fill(folder: Path, bench: int, runs: int) -> None:
    from cadrel.cli.scenario import load_scenario
    from cadrel.web.projects.models import Axis
    from cadrel.web.runs.models import Run

    load_scenario(folder / "bench-benchmark", bench_port=bench, logins=LOGINS)
    axis = Axis.objects.get(remote="tile-pusher")
    made = list(axis.runs.order_by("number"))
    for number in range(len(made) + 1, runs + 1):
        copy = made[number % len(made)]
        copy.pk, copy.number = None, number
        Run.objects.bulk_create([copy])


def _log_in(port: int) -> urllib.request.OpenerDirector:
    jar = CookieJar()
    opener = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(jar))
    url = f"http://127.0.0.1:{port}/login/"
    opener.open(url).read()
    token = next(c.value or "" for c in jar if c.name == "csrftoken")
    opener.addheaders = [("X-CSRFToken", token)]
    body = urllib.parse.urlencode({"username": LOGINS[0][0], "password": LOGINS[0][1], "csrfmiddlewaretoken": token})
    opener.open(urllib.request.Request(url, body.encode(), {"Referer": url})).read()
    return opener


def _timed(opener: urllib.request.OpenerDirector, url: str | urllib.request.Request) -> float:
    begun = time.perf_counter()
    opener.open(url).read()
    return time.perf_counter() - begun
