"""A kind of device is declared once; what else knows a kind by name is one place in each layer."""

import ast
from pathlib import Path

import pytest

import cadrel
from cadrel.core.feedback.checks import OF_KIND
from cadrel.core.feedback.device import READERS
from cadrel.core.parameters import BY_CODE, DEVICE_KINDS, REGISTRY, kinds_with
from cadrel.core.simulation import layout

SOURCE = Path(cadrel.__file__).parent
# The declaration and its entries, the reader, the checks; the kernel knows codes only.
MAY_NAME_A_KIND = {
    "core/parameters/devices.py",
    "core/parameters/feedback.py",
    "core/feedback/device.py",
    "core/feedback/checks.py",
}
NAMES = set(DEVICE_KINDS) - {"serial"}  # also the name of a field, of what a device carries


def test_every_kind_has_a_code_of_its_own_and_the_kernel_goes_by_the_same():
    assert len(BY_CODE) == len(DEVICE_KINDS)
    for key, kind in DEVICE_KINDS.items():
        assert getattr(layout, key.upper()) == kind.code


def test_every_kind_is_read_and_only_declared_kinds_are():
    assert set(READERS) == set(DEVICE_KINDS)
    assert set(OF_KIND) <= set(DEVICE_KINDS)


def test_the_registry_offers_every_kind_to_the_engineer_and_every_code_to_the_drive():
    assert [c for c, _ in REGISTRY["feedback.kind"].choices] == list(DEVICE_KINDS)
    assert {int(c) for c, _ in REGISTRY["feedback.device"].choices} == set(BY_CODE)


def test_traits_part_the_kinds_as_the_trade_does():
    assert kinds_with("is_absolute") == ("resolver", "serial")
    assert kinds_with("has_sine") == ("sincos", "resolver")
    assert kinds_with("may_have_halls") == ("incremental", "sincos", "halls")
    assert kinds_with("counts_lines") == ("incremental",)
    with pytest.raises(AttributeError):
        kinds_with("has_no_such_trait")


def test_no_other_module_asks_a_kind_for_its_name():
    """Compare with a name, or keep a list of names, and a sixth kind is forgotten there."""
    found = []
    for path in sorted(SOURCE.rglob("*.py")):
        where = path.relative_to(SOURCE).as_posix()
        if where in MAY_NAME_A_KIND or where.startswith(("cli/", "exchange/", "web/projects/migrations")):
            continue
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.Compare | ast.Dict | ast.Tuple | ast.Set):
                held = {c.value for c in ast.iter_child_nodes(node) if isinstance(c, ast.Constant)} & NAMES
                # One name alone in a list may be something else (Halls are a finding, too); two are a list of kinds.
                if len(held) > (0 if isinstance(node, ast.Compare) else 1):
                    found.append(f"{where}:{node.lineno}")
    assert not found
