"""Text -> a checked document: bounded size and depth, no constants outside JSON, schema with path."""

import json
from typing import Any

from jsonschema import Draft202012Validator

from cadrel.exchange.errors import FileProblem

LARGEST = 2_000_000  # [bytes]
LONGEST_NUMBER = 300  # digits of a whole number; more do not fit a float


def load_document(text: str | bytes, *, name: str, schema: dict[str, Any]) -> dict[str, Any]:
    """Return the parsed and checked document.

    Raises
    ------
    FileProblem
        Too large, not JSON (with line), another or a newer format, or not as the schema says (with path).
    """
    if len(text) > LARGEST:
        raise FileProblem(name=name, where="size", why=f"it is larger than {LARGEST // 1_000_000} MB.")

    def no_constant(found: str) -> float:
        raise FileProblem(name=name, where="numbers", why=f"{found} is not a JSON number.")

    def whole(found: str) -> int:
        if len(found) > LONGEST_NUMBER:
            raise FileProblem(name=name, where="numbers", why=f"{found[:20]}... is beyond all bounds.")
        return int(found)

    def once(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
        made = dict(pairs)
        if len(made) < len(pairs):
            keys = [k for k, _ in pairs]
            twice = next(k for k in keys if keys.count(k) > 1)
            raise FileProblem(name=name, where=f"'{twice[:60]}'", why="it stands twice.")
        return made

    try:
        body = json.loads(text, parse_constant=no_constant, parse_int=whole, object_pairs_hook=once)
    except json.JSONDecodeError as error:
        raise FileProblem(name=name, where=f"line {error.lineno}", why=f"not JSON: {error.msg}.") from error
    except (RecursionError, UnicodeDecodeError) as error:
        raise FileProblem(name=name, where="file", why="it is nested too deeply or not UTF-8 text.") from error
    if not isinstance(body, dict):
        raise FileProblem(name=name, where="file", why="it must hold one object.")
    wanted = schema["properties"]["format"]["const"]
    if body.get("format") != wanted:
        raise FileProblem(name=name, where="format", why=f"'{wanted}' was expected.")
    version = body.get("version")
    if isinstance(version, int) and version > schema["properties"]["version"]["const"]:
        raise FileProblem(name=name, where="version", why=f"version {version} is newer than this application.")
    wrong = next(
        iter(sorted(Draft202012Validator(schema).iter_errors(body), key=lambda e: list(map(str, e.path)))), None
    )
    if wrong is not None:
        where = " / ".join(str(p) for p in wrong.absolute_path) or "file"
        raise FileProblem(name=name, where=where, why=f"{wrong.message[:300]}.")
    return body
