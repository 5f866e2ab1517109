"""The stand-in drive: a process of its own, reached over TCP only.

    service.py   a request line -> a response line, around SimulatedDrive
    store.py     what is kept through power-off
    turns.py     the lock that clock and commands take turns by
    server.py    sockets, and drive time kept in step with the clock

`python -m cadrel.bench --port N RIG.json ...` runs it.
"""

from cadrel.bench.service import DriveService

__all__ = ["DriveService"]
