"""Axis, rig and result files: round trip, refusals with a place, schemas in step with the registry."""

import json
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from jsonschema import Draft202012Validator

from cadrel.cli.commission import commission
from cadrel.cli.documents import reference_text, schema_files
from cadrel.core.parameters import REGISTRY, STEPS, EntryProblem, check_entry
from cadrel.core.quantities import units_of
from cadrel.core.simulation import RigTruth
from cadrel.exchange import FileProblem, axis_document, read_axis, read_rig, recording_csv, rig_schema
from tests.conftest import DEMO, values_of

ROOT = DEMO.parent


@pytest.mark.parametrize("name", ["tile-pusher", "glaze-table", "reject-gate"])
def test_round_trip_is_exact(name: str) -> None:
    values = values_of(name)
    again = read_axis(json.dumps(axis_document("x", values))).values
    assert again == values


@pytest.mark.parametrize(
    ("text", "where"),
    [
        ("{", "line 1"),
        ("[]", "file"),
        ('{"format": "cadrel-rig", "version": 1, "values": {}}', "format"),
        ('{"format": "cadrel-axis", "version": 2, "values": {}}', "version"),
        ('{"format": "cadrel-axis", "version": 1, "values": {"no.such": {"value": 1}}}', "values"),
        ('{"format": "cadrel-axis", "version": 1, "values": {"sheet.poles": {"value": "8"}}}', "sheet.poles"),
        ('{"format": "cadrel-axis", "version": 1, "values": {"sheet.poles": {"value": 7}}}', "say which"),
        (
            '{"format": "cadrel-axis", "version": 1, "values": {"sheet.poles": {"value": 7, "convention": "poles"}}}',
            "sheet.poles",
        ),
        ('{"format": "cadrel-axis", "version": 1, "values": {"sheet.inertia": {"value": NaN}}}', "numbers"),
        ("[" * 200_000, "file"),
        ('{"a": "' + "x" * 2_100_000 + '"}', "size"),
    ],
)
def test_a_broken_file_is_refused_with_its_place(text: str, where: str) -> None:
    with pytest.raises(FileProblem) as caught:
        read_axis(text, name="a.json")
    assert where in caught.value.parts[0]


@settings(max_examples=150, deadline=None)
@given(st.sampled_from(sorted(REGISTRY)), st.floats() | st.text(max_size=8) | st.none(), st.text(max_size=6))
def test_any_entry_is_a_finite_value_or_a_sentence(key: str, value: object, unit: str) -> None:
    for entry in ({"value": value, "unit": unit}, {"value": value}):
        try:
            assert np.isfinite(check_entry(key, entry))  # type: ignore[arg-type]
        except EntryProblem as problem:
            assert problem.parts[0].startswith(REGISTRY[key].label)


def test_the_schemas_in_docs_are_those_of_the_registry() -> None:
    for path, text in schema_files().items():
        assert (ROOT / path).read_text() == text, f"run bin/cadrel formats: {path}"
        Draft202012Validator.check_schema(json.loads(text))


def test_the_rig_schema_lists_exactly_what_a_rig_takes() -> None:
    assert set(rig_schema()["properties"]["truth"]["properties"]) == set(RigTruth.__dataclass_fields__)


def test_every_parameter_has_help_a_unit_bounds_and_a_place_in_the_manual() -> None:
    manual = (ROOT / "docs" / "parameters.md").read_text()
    assert manual == reference_text(), "run bin/cadrel reference"
    steps = {s.key for s in STEPS}
    for p in REGISTRY.values():
        assert p.step in steps
        assert min(len(p.help.what), len(p.help.choose), len(p.help.mistake)) > 5, p.key
        assert p.choices or units_of(p.quantity)
        assert p.minimum < p.maximum
        assert f"`{p.key}`" in manual


def test_csv_has_a_heading_with_units_and_a_row_a_sample() -> None:
    text = recording_csv(
        250e-6, {"velocity": np.array([1.0, 2.0]), "i_q": np.array([0.5, -0.5])}, {"velocity": "rad/s"}
    )
    assert text.splitlines() == ["time [s],velocity [rad/s],i_q []", "0,1,0.5", "0.00025,2,-0.5"]


def test_the_command_tells_refused_from_unusable(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    out = tmp_path / "result.json"
    gate = [DEMO / kind / "reject-gate.json" for kind in ("axes", "rigs")]
    assert commission(*gate, out, seed=1, quiet=True) == 3
    assert "counts fell" in json.loads(out.read_text())["reason"]
    broken = tmp_path / "axis.json"
    broken.write_text('{"format": "cadrel-axis", "version": 1, "values": {}}')
    assert commission(broken, gate[1], out, seed=1, quiet=True) == 2
    assert "these are missing" in capsys.readouterr().err
    assert commission(tmp_path / "absent.json", gate[1], out, seed=1, quiet=True) == 2
    with pytest.raises(FileProblem):
        read_rig('{"format": "cadrel-rig", "version": 1, "truth": {"resistance": 1}}')
