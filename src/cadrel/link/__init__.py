"""How a drive is spoken to. docs/link-protocol.md describes the wire.

wire.py        bytes <-> messages, for both ends, without a socket
drive.py        Drive: what a drive is to everybody, and its capabilities; start reading here
linked_drive.py LinkedDrive: a drive that speaks the wire, on any transport
stand_in.py     StandIn: what only the stand-in has; no procedure may use it
client.py      TcpLink: one socket
in_process.py  LocalLink: the same bytes without a socket, time advanced by the caller
errors.py      what can go wrong between two ends
"""

from cadrel.link.client import TcpLink
from cadrel.link.drive import Capabilities, Drive, Recording
from cadrel.link.errors import LinkBroken, LinkDown, LinkError, RefusedByDrive
from cadrel.link.in_process import LocalLink
from cadrel.link.linked_drive import Link, LinkedDrive

__all__ = [
    "Capabilities",
    "Drive",
    "Link",
    "LinkBroken",
    "LinkDown",
    "LinkError",
    "LinkedDrive",
    "LocalLink",
    "Recording",
    "RefusedByDrive",
    "TcpLink",
]
