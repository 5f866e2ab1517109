"""Damaged files and forms by the thousand: each answered in words, none taken by halves. docs/evidence/input.md"""

import io
import itertools
import json
import os
import tempfile
from collections import Counter
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from cadrel.cli.services import is_free
from cadrel.cli.stack import ROOT, Stack

TEXTS = (
    "\0", "\ud800", "'", "%00", "1e308", "1e400", "nan", "-inf", "9" * 400, "9" * 5000, "\u202e", "<b>", "{}", "",
    " ", "x" * 3000, "−1", "6,000", "1 200", "0,7", "2.6 Ω", "2p=8", "=1+1", "²", "٣", "-0", "0x10", "True", "None",
)  # fmt: skip
NUMBERS = (
    "1e400",
    "-1e400",
    "9" * 400,
    "1" + "0" * 5000,
    "NaN",
    "Infinity",
    "-0",
    "1e-400",
    "true",
    "null",
    "[]",
    "{}",
)
FORMS = (
    "motor/save/", "feedback/save/", "mechanics/save/", "power/save/", "limits/save/", "motor/preview/",
    "limits/preview/", "gains/velocity/", "predict/velocity/", "relabel/", "source/", "keep/motor/", "jog/", "vector/",
    "start/acceptance/", "start/commutation/", "do/set_position/", "do/turn/", "do/set_phasing/", "do/fetch/",
)  # fmt: skip
MORE = (
    "name value share way by target speed holder tab ticked_at turns current power_up key source consent next change "
    "asked record maker part repeats based_on draft save sure host port machine drive axis remote password role typed"
).split()
PAGES = (
    "/new/",
    "/people/add/",
    "/account/",
    "/change/project/1/describe/",
    "/change/axis/1/copy/",
    "/change/drive/1/add_axis/",
)


@dataclass(slots=True)
class Seen:
    """What became of the cases."""

    kinds: Counter[str] = field(default_factory=Counter)
    ends: Counter[str] = field(default_factory=Counter)
    failures: list[str] = field(default_factory=list)
    partial: list[str] = field(default_factory=list)
    nameless: list[str] = field(default_factory=list)  # refused, and not said where


# --- damage ---------------------------------------------------------------------------------------------------------


def damaged(rng: np.random.Generator, text: str) -> bytes:
    """Return a document with one to three things wrong with it, sometimes none."""
    body = text
    for _ in range(int(rng.integers(0, 3))):
        body = _wound(rng, body)
    raw = body.encode("utf-8", "surrogatepass")
    kind = rng.integers(0, 12)
    if kind == 0:
        return raw[: int(rng.integers(0, len(raw) + 1))]
    if kind == 1 and raw:
        flipped = bytearray(raw)
        for k in rng.integers(0, len(raw), int(rng.integers(1, 6))):
            flipped[k] ^= 1 << int(rng.integers(0, 8))
        return bytes(flipped)
    if kind == 2:
        return body.encode("utf-16", "surrogatepass")
    if kind == 3:
        return b"\xef\xbb\xbf" + raw
    return raw


def _wound(rng: np.random.Generator, text: str) -> str:
    kind = int(rng.integers(0, 7))
    where = int(rng.integers(0, max(len(text), 1)))
    if kind == 0:
        return text[:where] + text[where + int(rng.integers(1, 40)) :]
    if kind == 1:
        return text[:where] + str(rng.choice(TEXTS)) + text[where:]
    if kind == 2:  # a number, anywhere
        digits = [i for i, c in enumerate(text) if c.isdigit()]
        if digits:
            at = int(rng.choice(digits))
            return text[:at] + str(rng.choice(NUMBERS)) + text[at + 1 :]
    if kind == 3:  # a line twice: a key twice
        lines = text.split("\n")
        at = int(rng.integers(0, len(lines)))
        return "\n".join([*lines[: at + 1], *lines[at:]])
    if kind == 4:
        marks = [i for i, c in enumerate(text) if c in '",:;{}[]']
        if marks:
            at = int(rng.choice(marks))
            return text[:at] + str(rng.choice(list('",:;{}[]'))) + text[at + 1 :]
    if kind == 5:
        words = [w for w in ("ohm", "rms", "version", "format", "values", "sheet.", "unit", "value") if w in text]
        if words:
            return text.replace(str(rng.choice(words)), str(rng.choice(TEXTS)), 1)
    return text.replace('"value"', f'"value": {"[" * 400}, "value"', 1) if kind == 6 else text


# --- cases ----------------------------------------------------------------------------------------------------------


def _documents() -> list[tuple[str, str, str]]:
    """Kind, file name and text of what is damaged."""
    from cadrel.exchange import RecordFile, axis_document, motor_csv, read_axis, record_document, record_keys

    found = []
    for path in sorted((ROOT / "demo" / "axes").glob("*.json")):
        axis = read_axis(path.read_bytes(), name=path.name)
        found.append(
            ("axis", path.name, json.dumps(axis_document(axis.name, axis.values), indent=1, ensure_ascii=False))
        )
        for kind in ("motor", "feedback"):
            keys = {p.key for p in record_keys(kind)}
            values = {k: e for k, e in axis.values.items() if k in keys}
            record = RecordFile(kind=kind, name=axis.name, values=values)
            found.append((kind, f"{kind}.json", _as_text(record_document(record))))
            if kind == "motor":
                found.append(("motor CSV", "motor.csv", motor_csv(record)))
    return found


def _as_text(document: dict[str, Any]) -> str:
    return json.dumps(document, indent=1, ensure_ascii=False)


def _file_case(rng: np.random.Generator, client: Any, documents: list[tuple[str, str, str]], seen: Seen) -> None:
    from cadrel.web.library.models import Record, Revision
    from cadrel.web.projects.models import ValueSet

    kind, name, text = documents[int(rng.integers(0, len(documents)))]
    upload = io.BytesIO(damaged(rng, text))
    upload.name = name
    before = (Record.objects.count(), Revision.objects.count(), ValueSet.objects.count())
    url = "/axis/1/load-file/" if kind == "axis" else "/library/load/"
    answer = client.post(url, {"file": upload}, follow=True)
    body = answer.content.decode(errors="replace")
    after = (Record.objects.count(), Revision.objects.count(), ValueSet.objects.count())
    taken = tuple(b - a for a, b in zip(before, after, strict=True))
    seen.kinds[f"{kind} file"] += 1
    if answer.status_code >= 500:
        seen.failures.append(f"{kind}: {upload.getvalue()[:200]!r}")
    elif kind == "axis" and "Nothing was changed yet." in body:
        seen.ends["compared"] += 1
        if taken != (0, 0, 0):
            seen.partial.append(f"{kind}: {taken}")
    elif taken in ((1, 1, 0), (0, 0, 0)) and "was added" in body:
        seen.ends["taken"] += 1
        if taken != (1, 1, 0) or not Revision.objects.order_by("-pk")[0].entries:
            seen.partial.append(f"{kind}: {taken}")
    else:
        seen.ends["refused"] += 1
        if taken != (0, 0, 0):
            seen.partial.append(f"{kind}: {taken}")
        if answer.status_code == 200 and "Nothing of it was taken" not in body:
            seen.nameless.append(f"{kind}: {upload.getvalue()[:120]!r}")


def _form_case(rng: np.random.Generator, client: Any, whole: dict[str, dict[str, str]], seen: Seen) -> None:
    from urllib.parse import urlencode

    from cadrel.web.projects.models import Axis, Drive, Project, ValueSet

    path = str(rng.choice(FORMS)) if rng.random() < 0.75 else str(rng.choice(PAGES))
    form = dict(whole.get(path.split("/")[0], {}))
    names = [*form, *MORE]
    for name in rng.choice(names, int(rng.integers(1, 5))):
        form[str(name)] = str(rng.choice(TEXTS))
    before = (Project.objects.count(), Drive.objects.count(), Axis.objects.count())
    sets = ValueSet.objects.count()
    body = urlencode({k: v.encode("utf-8", "surrogatepass") for k, v in form.items()})
    url = path if path.startswith("/") else f"/axis/1/{path}"
    answer = client.post(url, body, content_type="application/x-www-form-urlencoded")
    seen.kinds["form"] += 1
    seen.ends[f"form {answer.status_code}"] += 1
    after = (Project.objects.count(), Drive.objects.count(), Axis.objects.count())
    if answer.status_code >= 500:
        seen.failures.append(f"{url}: {body[:200]}")
    made = tuple(b - a for a, b in zip(before, after, strict=True))
    if made not in ((0, 0, 0), (1, 1, 1), (0, 0, 1)) or ValueSet.objects.count() - sets > 2:
        seen.partial.append(f"{url}: {made}")


def _query_case(rng: np.random.Generator, client: Any, seen: Seen) -> None:
    from urllib.parse import quote

    piece = quote(str(rng.choice(TEXTS)).encode("utf-8", "surrogatepass"))
    paths = (
        f"/library/?q={piece}", f"/library/?kind={piece}", f"/library/?axis={piece}", f"/axis/{piece}/motor/",
        f"/axis/1/run/{piece}/", f"/axis/1/{piece}/", f"/library/{piece}/", f"/library/1/?revision={piece}",
        f"/project/{piece}/", f"/?archived={piece}", f"/library/1/file.{piece}",
    )  # fmt: skip
    path = str(rng.choice(paths))
    answer = client.get(path)
    seen.kinds["address"] += 1
    if answer.status_code >= 500:
        seen.failures.append(path)


def evidence(*, cases: int, seed: int, out: Path) -> int:
    """Try the cases on a database of its own, print and write the table; exit status 1 if anything failed."""
    seen = _with_database(lambda client, whole: _try(client, whole, cases, seed))
    rows = [f"| {kind} | {n} |" for kind, n in seen.kinds.most_common()]
    ends = ", ".join(f"{n} {end}" for end, n in seen.ends.most_common())
    text = "\n".join(
        [
            "# Damaged files and forms",
            "",
            f"`bin/cadrel evidence input --cases {cases} --seed {seed}`: axis, motor and feedback files and "
            "spreadsheets with pieces cut, bits turned, keys twice, numbers beyond all bounds, text that is none; "
            "forms with such things in any field; addresses with them in any place.",
            "",
            "| what | cases |",
            "| --- | --- |",
            *rows,
            "",
            f"{ends}.",
            "",
            f"- Ended in a failure page: {len(seen.failures)}, wanted 0.",
            f"- Taken by halves: {len(seen.partial)}, wanted 0.",
            f"- Files refused without naming line or place: {len(seen.nameless)}, wanted 0.",
            "",
        ]
    )
    print(text)
    for line in (*seen.failures[:20], *seen.partial[:20], *seen.nameless[:20]):
        print(line)
    out.write_text(text)
    return int(bool(seen.failures or seen.partial or seen.nameless))


def _try(client: Any, whole: dict[str, dict[str, str]], cases: int, seed: int) -> Seen:
    seen, documents = Seen(), _documents()
    for number in range(cases):
        rng = np.random.default_rng([seed, number])
        share = rng.random()
        if share < 0.6:
            _file_case(rng, client, documents, seen)
        elif share < 0.93:
            _form_case(rng, client, whole, seen)
        else:
            _query_case(rng, client, seen)
        if number % 500 == 499:
            print(f"{number + 1} of {cases}: {len(seen.failures)} failures", flush=True)
    return seen


def _whole_forms(values: dict[str, Any]) -> Iterator[tuple[str, dict[str, str]]]:
    """Each step's form as it is sent when nothing was changed."""
    from cadrel.web.route.entries import fields_of

    for step in ("motor", "feedback", "mechanics", "power", "limits"):
        form: dict[str, str] = {}
        for p in fields_of(step, values):
            entry = values.get(p.key, {})
            if "value" in entry:
                form[p.key] = str(entry["value"])
                form |= {f"{p.key}.{k}": entry[k] for k in ("unit", "convention") if k in entry}
        yield step, form


def _with_database(visit: Callable[[Any, dict[str, dict[str, str]]], Seen]) -> Seen:
    web, bench, database, live = itertools.islice((p for p in range(8700, 8800) if is_free(p)), 4)
    with tempfile.TemporaryDirectory() as folder:
        os.environ["CADREL_VAR"] = folder
        stack = Stack(Path(folder), name="input", web=web, bench=bench, database=database, live=live)
        try:
            stack.start_database()
            return visit(*_logged_in())
        finally:
            stack.stop()
            stack.postgres.remove()


def _logged_in() -> tuple[Any, dict[str, dict[str, str]]]:
    import logging

    from django.contrib.auth.models import Group, User
    from django.test import Client

    from cadrel.exchange import read_axis
    from cadrel.web.changes.projects import create_project
    from cadrel.web.changes.values import save_entries

    logging.getLogger("django.request").setLevel(logging.ERROR)  # thousands of refusals are what is wanted
    user = User.objects.create_user("hostile", password="a-long-password")
    user.groups.add(Group.objects.get_or_create(name="administrator")[0])
    axis = create_project(name="P", machine="", drive="D", host="127.0.0.1", port=1, axis="A", remote="a", author=user)
    values = read_axis((ROOT / "demo" / "axes" / "tile-pusher.json").read_bytes()).values
    save_entries(axis, values, author=user, cause="entered")
    client = Client(raise_request_exception=False, headers={"host": "127.0.0.1"})
    client.force_login(user, backend="django.contrib.auth.backends.ModelBackend")
    return client, dict(_whole_forms(axis.values))
