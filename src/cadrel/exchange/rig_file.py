"""RIG.json: the truth a bench is built from."""

from typing import Any

from cadrel.exchange.document import load_document
from cadrel.exchange.schemas import rig_schema


def read_rig(text: str | bytes, *, name: str = "rig file") -> dict[str, Any]:
    """Return the truth of a rig file as plain values. Raises `FileProblem`."""
    return dict(load_document(text, name=name, schema=rig_schema())["truth"])
