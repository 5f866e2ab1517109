"""A file cannot be used."""

from cadrel.core.errors import CadrelError


class FileProblem(CadrelError):
    """Names the place and the reason; nothing of the file was taken."""

    happened = "{name}: {where}: {why}"
    means = "Nothing of it was taken."
    remedy = "Mend it there; docs/formats describes the format."
