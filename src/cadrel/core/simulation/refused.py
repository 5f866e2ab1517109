"""Why the drive does not carry out a command."""

from cadrel.core.errors import CadrelError


class DriveRefused(CadrelError):
    """The drive does not carry out a command in its present state."""

    happened = "The drive refused: {why}"
    means = "Nothing was started."
    remedy = "{remedy}"
