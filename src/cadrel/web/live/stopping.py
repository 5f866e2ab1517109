"""STOP: every known axis at once, each on a connection of its own; needs neither database nor worker nor page."""

import asyncio
import json
import secrets
from typing import Any

from cadrel.link.wire import Request, WireError, decode_response, encode_request

WITHIN = 0.28  # [s] for one axis to answer; all are told side by side
NO_SUPPLY = "PoweredOff"  # code of a drive's refusal


async def stop_axes(
    axes: list[dict[str, Any]], *, by: str, press: str = "", why: str = "", secret: str = ""
) -> tuple[list[str], list[str]]:
    """Tell every axis to stop, all at once.

    Parameters
    ----------
    axes
        Objects with name, host, port, remote.
    by
        Who pressed it, as the engineers shall read it.
    press
        Name of the press: a drive that hears it twice, on two ways, counts it once.

    Returns
    -------
    (told, unreached)
        Names; of the unreached with the reason.
    """
    press = press or secrets.token_hex(8)
    why = why or f"{by} pressed STOP"
    said = await asyncio.gather(*(_stop_one(a, by=by, press=press, why=why, secret=secret) for a in axes))
    told = [str(a["name"]) for a, problem in zip(axes, said, strict=True) if problem is None]
    unreached = [f"{a['name']}: {problem}" for a, problem in zip(axes, said, strict=True) if problem is not None]
    return told, unreached


async def _stop_one(axis: dict[str, Any], *, by: str, press: str, why: str, secret: str) -> str | None:
    """Return what went wrong, or None."""
    params = {"axis": str(axis["remote"]), "why": why, "press": press, "by": by}
    lines = [Request(1, "link.hello", {"secret": secret})] if secret else []
    lines.append(Request(2, "drive.stop", params))
    writer: asyncio.StreamWriter | None = None
    try:
        async with asyncio.timeout(WITHIN):
            reader, writer = await asyncio.open_connection(str(axis["host"]), int(axis["port"]))
            writer.write(b"".join(encode_request(line) for line in lines))
            await writer.drain()
            for _ in lines:
                response = decode_response(await reader.readline())
                if response.error is not None and (response.error.get("data") or {}).get("code") == NO_SUPPLY:
                    return None  # what has no supply turns by itself no more than told
                if response.error is not None:
                    return str(response.error["message"])[:200]
    except TimeoutError:
        return "it does not answer"
    except (OSError, WireError, ValueError, json.JSONDecodeError) as error:
        return f"it does not answer ({error or type(error).__name__})"
    finally:
        if writer is not None:
            writer.close()
    return None
