"""What an action of users, projects or drives refuses."""

from cadrel.core.errors import CadrelError


class NotPossible(CadrelError):
    """A change that cannot be made; `what` and `remedy` say why, and what can."""

    happened = "{what}"
    means = "Nothing was changed."
    remedy = "{remedy}"
