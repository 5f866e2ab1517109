"""Advice names fields by the registry: what it tells to raise is there, by that name, in that step."""

import re
from pathlib import Path

import pytest

import cadrel
from cadrel.core.parameters import REGISTRY, STEPS, field_of

NAMED = re.compile(r"""field_of\(["']([a-z_.]+)["']\)""")


def test_a_field_is_named_by_its_label_and_its_step():
    assert field_of("procedure.travel") == "“Travel allowed for identification” (Limits and goal)"
    for key, p in REGISTRY.items():
        assert p.label in field_of(key)
        assert any(s.title in field_of(key) for s in STEPS if s.key == p.step) or p.step not in {s.key for s in STEPS}
    with pytest.raises(KeyError):
        field_of("procedure.excitation")


def test_every_field_that_advice_names_can_be_typed_or_tuned():
    """A value that only the drive computes is no remedy."""
    named = {key for path in Path(cadrel.__file__).parent.rglob("*.py") for key in NAMED.findall(path.read_text())}
    assert len(named) > 8
    for key in named:
        assert REGISTRY[key].step in {s.key for s in STEPS}, key


# Words that told to change what no field holds, or held it by another name.
NO_SUCH_FIELD = re.compile(
    r"[Rr]aise the excitation|identification velocity|for procedures, or|[Aa]llow more (travel|speed)"
)


def test_no_advice_tells_to_change_what_no_field_holds():
    found = [
        f"{path.name}: {line.strip()}"
        for path in Path(cadrel.__file__).parent.rglob("*.py")
        for line in path.read_text().splitlines()
        if NO_SUCH_FIELD.search(line)
    ]
    assert not found
