"""Motor and feedback files: exact round trips, refusals with a place, and ten thousand broken ones."""

import json
import random
import time
import tracemalloc
from collections.abc import Callable
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from jsonschema import Draft202012Validator

from cadrel.core.motor import motor_from_sheet
from cadrel.core.parameters import Entry, check_entry
from cadrel.exchange import (
    FileProblem,
    RecordFile,
    motor_csv,
    read_axis,
    read_motor_csv,
    read_record,
    record_document,
    record_keys,
    record_schema,
)
from tests.core.motor.made_up_sheets import SHEETS
from tests.core.motor.test_made_up_sheets import entries_of

NAMES = [name for name, _, _ in SHEETS]


def record_of(name: str) -> RecordFile:
    _, kind, rows = next(s for s in SHEETS if s[0] == name)
    values = entries_of(kind, rows)
    for entry in values.values():
        entry["source"] = "sheet"
        if entry.get("unit") == "":
            del entry["unit"]
    return RecordFile(
        kind="motor", name=name, maker="Fernhag", part="F-1", comment='with "quotes", commas', values=values
    )


@pytest.mark.parametrize("name", NAMES)
def test_every_sheet_comes_back_from_json_as_it_went(name: str) -> None:
    record = record_of(name)
    text = json.dumps(record_document(record), ensure_ascii=False)
    assert read_record(text, name="m.json") == record


@pytest.mark.parametrize("name", NAMES)
def test_every_sheet_comes_back_from_two_columns_as_it_went(name: str) -> None:
    record = record_of(name)
    assert read_motor_csv(motor_csv(record), name="m.csv") == record


def test_a_feedback_device_comes_back_from_json() -> None:
    values: dict[str, Entry] = {
        "feedback.kind": {"value": "serial", "source": "typed"},
        "feedback.single_turn_bits": {"value": 19, "source": "typed"},
        "feedback.clock": {"value": 4, "unit": "MHz", "source": "typed"},
    }
    record = RecordFile(kind="feedback", name="Ringgeber", values=values)
    assert read_record(json.dumps(record_document(record)).encode(), name="f.json") == record


TYPED = """\
Name;Kesper 40
Kind of motor;synchronous, rotary
Winding resistance;2,6 ohm line to line
Winding inductance;9.2 mH line to line
Back-EMF constant;52 V/krpm, line to line, rms
Poles;8 poles
# what the plate says
Continuous current;3.1 A rms
Peak current;300 %
Rotor inertia;1.35 kg·cm²
Maximum speed;5000 rpm
"""


@pytest.mark.parametrize("delimiter", [";", "\t"])
def test_a_spreadsheet_with_labels_and_decimal_commas_is_understood(delimiter: str) -> None:
    record = read_motor_csv(TYPED.replace(";", delimiter).encode("utf-8-sig"), name="typed.csv")
    assert record.name == "Kesper 40"
    motor = motor_from_sheet(record.values)
    assert motor.resistance == pytest.approx(1.3)
    assert motor.pole_pairs == 4
    assert motor.current_peak == pytest.approx(3 * motor.current_continuous)


@pytest.mark.parametrize(
    ("line", "where", "why"),
    [
        ("Torque constant;two N·m/A", "line 12", "no number stands first"),
        ("Torque constant;2.6 furlong", "line 12", "no unit of torque constant"),
        ("Shoe size;43", "line 12", "no value of a motor"),
        ("Poles;8 poles", "line 12", "stands twice"),
        ("Temperature sensor;thermometer", "line 12", "not one of the choices"),
        ("Torque constant;0.8;N·m/A", "line 12", "two columns"),
        ("Torque constant;-0.8 N·m/A", "sheet.torque_constant", "cannot be negative"),
        ("Winding limit;155 °C;;", "", ""),
    ],
)
def test_a_wrong_line_is_named(line: str, where: str, why: str) -> None:
    if not where:
        assert "sheet.temperature_max" in read_motor_csv(TYPED + line + "\n", name="typed.csv").values
        return
    with pytest.raises(FileProblem) as caught:
        read_motor_csv(TYPED + line + "\n", name="typed.csv")
    assert where in caught.value.parts[0]
    assert why in caught.value.parts[0]


@pytest.mark.parametrize(
    ("change", "where"),
    [
        ({"version": 2}, "version"),
        ({"format": "cadrel-axis"}, "format"),
        ({"values": {}}, "values"),
        ({"values": {"limit.velocity": {"value": 1}}}, "values"),  # a motor file holds no axis
        ({"values": {"sheet.poles": {"value": True}}}, "sheet.poles"),
        ({"surprise": 1}, "file"),
        ({"name": "x" * 121}, "name"),
    ],
)
def test_a_wrong_document_is_refused_with_its_path(change: dict[str, object], where: str) -> None:
    document = record_document(record_of(NAMES[0])) | change
    with pytest.raises(FileProblem) as caught:
        read_record(json.dumps(document), name="m.json")
    assert where in caught.value.parts[0]


@pytest.mark.parametrize("kind", ["motor", "feedback"])
def test_the_schemas_are_valid_and_hold_what_a_sheet_prints_only(kind: str) -> None:
    keys = tuple(p.key for p in record_keys(kind))
    Draft202012Validator.check_schema(record_schema(kind, keys))
    assert not [k for k in keys if k.startswith(("motor.", "cable.", "second.", "limit."))]
    assert f"{'sheet' if kind == 'motor' else 'feedback'}.kind" in keys


@settings(max_examples=200, deadline=None)
@given(
    st.dictionaries(
        st.sampled_from([p.key for p in record_keys("motor")]), st.floats(allow_nan=False) | st.text(max_size=9)
    )
)
def test_what_is_read_is_always_understood(raw: dict[str, object]) -> None:
    text = json.dumps({"format": "cadrel-motor", "version": 1, "values": {k: {"value": v} for k, v in raw.items()}})
    try:
        record = read_record(text, name="m.json")
    except FileProblem as problem:
        assert all(problem.parts)
        return
    for key, entry in record.values.items():
        check_entry(key, entry, record.values)


def broken(rng: random.Random, good: list[bytes]) -> bytes:
    """A file as a slipping hand, a bad line or a hostile one makes it."""
    text = bytearray(rng.choice(good))
    how = rng.randrange(8)
    if how == 0:
        return bytes(rng.randrange(256) for _ in range(rng.randrange(200)))
    if how == 1:
        return bytes(text[: rng.randrange(len(text))])
    if how == 2:
        return b"[" * rng.randrange(1, 5000) + bytes(text)
    if how == 3:
        return bytes(text).replace(b'"value"', rng.choice([b'"valu"', b'"value": {}, "x"', b'"value": 1e999, "y"']), 1)
    if how == 4:
        return bytes(text) * rng.randrange(2, 6)
    for _ in range(rng.randrange(1, 12)):
        at = rng.randrange(len(text))
        if how == 5:
            text[at] = rng.randrange(256)
        elif how == 6:
            del text[at : at + rng.randrange(1, 6)]
        else:
            text[at:at] = rng.choice([b"\x00", b'"', b"{", b"}", b",", b"NaN", b"-", b"1e309", b";", b"\n"])
    return bytes(text)


def test_ten_thousand_broken_files_are_refused_in_words_or_read_whole() -> None:
    good = [json.dumps(record_document(record_of(n)), ensure_ascii=False).encode() for n in NAMES[:6]]
    good += [motor_csv(record_of(n)).encode() for n in NAMES[:6]]
    rng = random.Random(306)
    readers = (lambda d: read_record(d, name="x"), lambda d: read_motor_csv(d, name="x"), read_axis)
    begun = time.thread_time()  # the work itself, whatever else the machine does meanwhile
    for k in range(30):
        readers[k % 2](good[(k % 2) * 6 + k % 6])
    whole = (time.thread_time() - begun) / 30  # of a file as it should be
    refused = 0
    for k in range(10_000):
        data = broken(rng, good)
        took, is_refused = read_and_timed(readers[k % 3], data)
        refused += is_refused
        if took > 100 * whole:  # once more, thrice: what a busy machine's caches cost passes, work that grows does not
            took = min(read_and_timed(readers[k % 3], data)[0] for _ in range(3))
        assert took < 100 * whole, "work that grows with nothing but the size"
    assert refused > 9000
    tracemalloc.start()
    for k in range(400):
        read_and_timed(readers[k % 3], broken(rng, good))
    peak = tracemalloc.get_traced_memory()[1]
    tracemalloc.stop()
    assert peak < 100e6, "bounded memory each"


def read_and_timed(reader: Callable[[bytes], Any], data: bytes) -> tuple[float, bool]:
    """Read a broken file; return the thread's own time [s] and whether it was refused, which is done in words."""
    begun = time.thread_time()
    try:
        result = reader(data)
    except FileProblem as problem:
        assert all(problem.parts), data[:80]
        assert "Traceback" not in problem.text
        return time.thread_time() - begun, True
    values = result.values if isinstance(result, RecordFile) else result[1]
    for key, entry in values.items():
        check_entry(key, entry, values)
    return time.thread_time() - begun, False


@pytest.mark.parametrize("name", ["=cmd()", "+1", "-1", "@SUM(A1)", "'quoted", "plain", "\ttab"])
def test_no_cell_of_text_is_a_formula_and_it_comes_back(name: str) -> None:
    from cadrel.exchange.csv_file import FORMULA, text_cell, text_of_cell

    cell = text_cell(name)
    assert not cell.startswith(FORMULA)
    assert text_of_cell(cell) == name


def test_a_csv_is_read_as_it_was_pasted_from_a_sheet() -> None:
    text = "\n".join(
        (
            "Winding resistance;2,6 Ω line to line", "Winding inductance;5.1 mH", "Torque constant;0.62 Nm/Arms",
            "Rotor inertia;1.41 kgcm²", "Poles;2p=8", "Continuous current;3.1 Arms", "Peak current;12.4 Apk",
            "Maximum speed;6,000 min-1",
        )
    )  # fmt: skip
    found = read_motor_csv(text + "\n", name="pasted.csv").values
    assert len(found) == 8
    assert found["sheet.speed_max"] == {"value": 6000.0, "unit": "rpm", "source": "sheet"}
    assert found["sheet.current_continuous"]["convention"] == "rms"
    assert found["sheet.current_peak"]["convention"] == "peak"
    assert found["sheet.torque_constant"] == {
        "value": 0.62,
        "unit": "N·m/A",
        "convention": "per_rms",
        "source": "sheet",
    }
