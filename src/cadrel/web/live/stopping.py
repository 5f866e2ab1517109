"""STOP: every known axis at once, each on a connection of its own; needs neither database nor worker nor page.

An axis that answers late is told all the same: who pressed hears after `WITHIN` which axes have not answered, and the
words to those stay on their way until `GIVEN_UP`. On a machine with much to do a drive may well answer late.
"""

import asyncio
import json
import secrets
from typing import Any

from cadrel.link.wire import Request, WireError, decode_response, encode_request

WITHIN = 1.0  # [s] until who pressed hears which axes have not answered; all are told side by side
GIVEN_UP = 10.0  # [s] until a STOP is no longer on its way: by then a drive without contact has stopped by itself
_on_their_way: set[asyncio.Task[str | None]] = set()  # the loop itself holds its tasks weakly
SILENT = "it does not answer"
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
    tasks = [asyncio.create_task(_stop_one(a, by=by, press=press, why=why, secret=secret)) for a in axes]
    if tasks:
        await asyncio.wait(tasks, timeout=WITHIN)
    late = {task for task in tasks if not task.done()}
    _on_their_way.update(late)
    for task in late:
        task.add_done_callback(_on_their_way.discard)
    said = [SILENT if task in late else task.result() for task in tasks]
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
        async with asyncio.timeout(GIVEN_UP):
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
        return SILENT
    except (OSError, WireError, ValueError, json.JSONDecodeError) as error:
        return f"{SILENT} ({error or type(error).__name__})"
    finally:
        if writer is not None:
            writer.close()
    return None
