"""How a drive is spoken to. docs/link-protocol.md describes the wire.

wire.py        bytes <-> messages, for both ends, without a socket
drive.py       Drive: the commands as methods, on any transport; start reading here
client.py      TcpLink: one socket
in_process.py  LocalLink: the same bytes without a socket, time advanced by the caller
errors.py      what can go wrong between two ends
"""

from cadrel.link.client import TcpLink
from cadrel.link.drive import Drive, Link, Recording
from cadrel.link.errors import LinkBroken, LinkDown, LinkError, RefusedByDrive
from cadrel.link.in_process import LocalLink

__all__ = [
    "Drive",
    "Link",
    "LinkBroken",
    "LinkDown",
    "LinkError",
    "LocalLink",
    "Recording",
    "RefusedByDrive",
    "TcpLink",
]
