"""Motor and feedback files: one record of the library, as JSON, or a motor as a two-column CSV from a spreadsheet."""

import csv
import io
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from cadrel.core.parameters import Entry, Parameter, conventions_for, of_step, preset_of, units_for
from cadrel.core.quantities import UnreadableCell, read_printed
from cadrel.exchange.axis_file import checked_entries
from cadrel.exchange.csv_file import text_cell, text_of_cell
from cadrel.exchange.document import LARGEST, load_document
from cadrel.exchange.errors import FileProblem
from cadrel.exchange.schemas import record_schema

ABOUT = ("name", "maker", "part", "comment")
KINDS = ("motor", "feedback")
MOST_ROWS = 500


@dataclass(frozen=True, slots=True)
class RecordFile:
    """What a motor or feedback file holds."""

    kind: str
    name: str = ""
    maker: str = ""
    part: str = ""
    comment: str = ""
    values: dict[str, Entry] = field(default_factory=dict)


# Follows from the device and the axis: what the drive's input is set to.
ABOUT_THE_INPUT = (
    "feedback.counts", "feedback.device", "feedback.periods", "feedback.word_", "feedback.second_counts",
    "feedback.position_device",
)  # fmt: skip


def record_keys(kind: str) -> list[Parameter]:
    """Return the parameters a record of that kind holds: what the sheet of the thing itself prints."""
    about_the_axis = ("feedback.direction", "second.", "feedback.velocity_from", "feedback.position_from", "cable.")
    return [
        p
        for p in of_step(kind)
        if not p.key.startswith(("motor.", *ABOUT_THE_INPUT, *about_the_axis))
        and p.key not in ("sheet.temperature_winding", "sheet.mounting_share")
    ]


def read_record(text: str | bytes, *, name: str) -> RecordFile:
    """Return a record from JSON. Raises `FileProblem`, nothing half-taken."""
    kind = "feedback" if _says(text, "cadrel-feedback") else "motor"
    body = load_document(text, name=name, schema=record_schema(kind, tuple(p.key for p in record_keys(kind))))
    about = {k: str(body.get(k, "")) for k in ABOUT}
    return RecordFile(kind=kind, **about, values=checked_entries(body["values"], name=name))


def _says(text: str | bytes, word: str) -> bool:
    head = text[:4000]
    return word in (head if isinstance(head, str) else head.decode("utf-8", "replace"))


def record_document(record: RecordFile) -> dict[str, Any]:
    """Return the document of a record; `read_record` of its JSON gives the same record."""
    about = {k: getattr(record, k) for k in ABOUT if getattr(record, k)}
    values = {k: dict(v) for k, v in record.values.items()}
    return {"format": f"cadrel-{record.kind}", "version": 1, **about, "values": values}


# --- two columns ----------------------------------------------------------------------------------------------------


def read_motor_csv(text: str | bytes, *, name: str) -> RecordFile:
    """Return a motor typed in a spreadsheet: a column of names, a column of values with unit and convention.

    Columns are parted by comma, semicolon or tab. A name is the parameter's key or its label; a value is a number, then
    a unit, then the convention in the page's words, as "2.6 ohm line to line"; or one of a choice's options.

    Raises
    ------
    FileProblem
        Names the line.
    """
    if len(text) > LARGEST:
        raise FileProblem(name=name, where="size", why=f"it is larger than {LARGEST // 1_000_000} MB.")
    try:
        plain = text if isinstance(text, str) else text.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise FileProblem(name=name, where=f"byte {error.start}", why="it is not UTF-8 text.") from error
    about: dict[str, str] = {}
    values: dict[str, Entry] = {}
    rows = _rows(plain, name)
    known = _by_name()
    kind = next((v for _, key, v in rows if known.get(key.lower()) == "sheet.kind"), "")
    chosen: dict[str, Entry] = {"sheet.kind": {"value": _option("sheet.kind", kind) or "rotary"}}
    for line, key, value in rows:
        if key.lower() in ABOUT:
            about[key.lower()] = text_of_cell(value)
            continue
        found = known.get(key.lower())
        if found is None:
            raise FileProblem(name=name, where=f"line {line}", why=f"'{key[:60]}' is no value of a motor.")
        if found in values:
            raise FileProblem(name=name, where=f"line {line}", why=f"'{key[:60]}' stands twice.")
        values[found] = _value(found, value, chosen, name=name, line=line)
    if not values:
        raise FileProblem(name=name, where="file", why="it holds no value.")
    return RecordFile(kind="motor", **about, values=checked_entries(values, name=name))


def motor_csv(record: RecordFile) -> str:
    """Return a motor as two columns; `read_motor_csv` gives the same record."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    for key in ABOUT:
        if getattr(record, key):
            writer.writerow([key, text_cell(getattr(record, key))])
    for key, entry in record.values.items():
        labels = {c.key: c.label for c in conventions_for(_parameter(key), record.values)}
        parts = [_number_text(entry["value"]), str(entry.get("unit", "")), labels.get(str(entry.get("convention")), "")]
        writer.writerow([key, " ".join(p for p in parts if p)])
    return out.getvalue()


def _number_text(value: float | str) -> str:
    return repr(float(value)).removesuffix(".0") if isinstance(value, int | float) else str(value)


def _parameter(key: str) -> Parameter:
    return next(p for p in record_keys("motor") if p.key == key)


def _by_name() -> dict[str, str]:
    named: dict[str, str] = {}
    for p in record_keys("motor"):
        named.setdefault(p.label.lower(), p.key)
        named[p.key.lower()] = p.key
    return named


def _rows(text: str, name: str) -> list[tuple[int, str, str]]:
    head = "\n".join(text.splitlines()[:20])
    delimiter = max(",;\t", key=head.count) if any(d in head for d in ",;\t") else ","
    rows: list[tuple[int, str, str]] = []
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=delimiter)
    try:
        for row in reader:
            cells = [c.strip() for c in row]
            if not any(cells) or cells[0].startswith("#"):
                continue
            if len(rows) >= MOST_ROWS:
                raise FileProblem(name=name, where=f"line {reader.line_num}", why=f"more than {MOST_ROWS} lines.")
            if len(cells) < 2 or any(cells[2:]):
                raise FileProblem(name=name, where=f"line {reader.line_num}", why="two columns are wanted.")
            rows.append((reader.line_num, cells[0], cells[1]))
    except csv.Error as error:
        raise FileProblem(name=name, where=f"line {reader.line_num}", why=f"not CSV: {error}.") from error
    return rows


def _option(key: str, text: str) -> str | None:
    options = {label.lower(): k for k, label in _parameter(key).choices} | {k: k for k, _ in _parameter(key).choices}
    return options.get(text.lower())


def _value(key: str, text: str, chosen: Mapping[str, Entry], *, name: str, line: int) -> Entry:
    p = _parameter(key)
    if p.choices:
        option = _option(key, text)
        if option is None:
            raise FileProblem(name=name, where=f"line {line}", why=f"'{text[:40]}' is not one of the choices.")
        return {"value": option, "source": "sheet"}
    labels = {c.key: c.label for c in conventions_for(p, chosen)}
    try:
        printed = read_printed(text, quantity=p.quantity, units=units_for(p), conventions=labels)
    except UnreadableCell as cell:
        raise FileProblem(name=name, where=f"line {line}", why=f"'{text[:40]}': {cell.facts['why']}") from cell
    entry: Entry = {"value": printed.value, "source": "sheet"}
    if printed.unit:
        entry["unit"] = printed.unit
    if printed.convention:
        entry["convention"] = printed.convention
    elif labels and not preset_of(p, chosen):
        why = f"'{text[:40]}' may be {' or '.join(labels.values())}; say which."
        raise FileProblem(name=name, where=f"line {line}", why=why)
    return entry
