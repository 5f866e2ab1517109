"""JSON-RPC 2.0, one message a line, UTF-8: bytes <-> messages, for both ends, without a socket.

Arrays travel as {"shape": [...], "f32" or "f64": base64 of little-endian floats, last axis fastest}.
"""

import base64
import binascii
import json
from dataclasses import dataclass
from typing import Any

import numpy as np

LONGEST = 64 * 1024 * 1024  # [bytes] of one message
LONGEST_REQUEST = 8_000_000  # [bytes] of a call; only an answer, a recording, is longer
PARSE_ERROR, INVALID_REQUEST, NO_METHOD, INVALID_PARAMS, INTERNAL = -32700, -32600, -32601, -32602, -32603
REFUSED, NOT_GREETED = -32000, -32001


class WireError(ValueError):
    """The bytes are not a message of this protocol."""


@dataclass(frozen=True, slots=True)
class Request:
    """A call."""

    id: int
    method: str
    params: dict[str, Any]


@dataclass(frozen=True, slots=True)
class Response:
    """Its answer: `error` is None, or {code, message, data}."""

    id: int | None
    result: Any = None
    error: dict[str, Any] | None = None


def encode_request(request: Request) -> bytes:
    """Return the line of a request."""
    return _line({"jsonrpc": "2.0", "id": request.id, "method": request.method, "params": request.params})


def encode_response(response: Response) -> bytes:
    """Return the line of a response."""
    body: dict[str, Any] = {"jsonrpc": "2.0", "id": response.id}
    if response.error is not None:
        body["error"] = response.error
    else:
        body["result"] = response.result
    return _line(body)


def decode_request(line: bytes) -> Request:
    """Return the request of a line. Raises `WireError`."""
    body = _object(line)
    number, method, params = body.get("id"), body.get("method"), body.get("params", {})
    if not isinstance(number, int) or isinstance(number, bool) or abs(number) >= 2**53:
        raise WireError("a request needs a whole id")
    if not isinstance(method, str) or not isinstance(params, dict):
        raise WireError("a request needs a method and named params")
    return Request(number, method, params)


def decode_response(line: bytes) -> Response:
    """Return the response of a line. Raises `WireError`."""
    body = _object(line)
    if ("result" in body) == ("error" in body):
        raise WireError("a response has either a result or an error")
    error = body.get("error")
    if error is not None and (not isinstance(error, dict) or "code" not in error or "message" not in error):
        raise WireError("an error has a code and a message")
    number = body.get("id")
    if number is not None and not isinstance(number, int):
        raise WireError("the id is not a whole number")
    return Response(number, body.get("result"), error)


def pack(array: np.ndarray, *, kind: str = "f32") -> dict[str, Any]:
    """Return an array as it travels; `kind` "f32" or "f64"."""
    data = np.ascontiguousarray(array, dtype="<f4" if kind == "f32" else "<f8")
    return {"shape": list(data.shape), kind: base64.b64encode(data.tobytes()).decode()}


def unpack(body: Any) -> np.ndarray:
    """Return the array of `pack` as float64. Raises `WireError`."""
    try:
        kind = "f32" if "f32" in body else "f64"
        data = np.frombuffer(base64.b64decode(body[kind], validate=True), dtype="<f4" if kind == "f32" else "<f8")
        array = data.reshape([int(n) for n in body["shape"]]).astype(float)
    except (KeyError, TypeError, ValueError, OverflowError, MemoryError, binascii.Error) as cause:
        raise WireError(f"not an array: {cause}") from cause
    if not np.isfinite(array).all():
        raise WireError("an array holds what is not a number")
    return array


def _line(body: dict[str, Any]) -> bytes:
    return json.dumps(body, allow_nan=False, separators=(",", ":")).encode() + b"\n"


def _object(line: bytes) -> dict[str, Any]:
    if len(line) > LONGEST:
        raise WireError("the message is too long")

    def no_constant(name: str) -> float:
        raise WireError(f"{name} is not JSON")

    try:
        body = json.loads(line, parse_constant=no_constant)
    except (ValueError, RecursionError, MemoryError) as cause:
        raise WireError(f"not JSON: {cause}") from cause
    if not isinstance(body, dict) or body.get("jsonrpc") != "2.0":
        raise WireError("not JSON-RPC 2.0")
    return body
