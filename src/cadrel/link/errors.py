"""What can go wrong between two ends."""

from cadrel.core.errors import CadrelError


class LinkError(CadrelError):
    """Base of the link's errors."""


class LinkDown(LinkError):
    """Nobody answers."""

    happened = "The drive at {address} does not answer ({why})."
    means = "Its state is not known; a drive that loses its connection stops the axis by itself."
    remedy = "Check that it is switched on and connected, then try again."


class LinkBroken(LinkError):
    """The peer broke the protocol."""

    happened = "The drive at {address} answered something that is not its protocol ({why})."
    means = "Nothing it said was used; the connection was closed."
    remedy = "Check address and protocol version."


class RefusedByDrive(LinkError):
    """The drive understood and refused."""

    happened = "{happened}"
    means = "{means}"
    remedy = "{remedy}"
