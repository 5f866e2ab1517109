"""What the web layer refuses."""

from cadrel.core.errors import CadrelError


class WebRefused(CadrelError):
    """Base: an action is not possible now."""


class NotConnected(WebRefused):
    """No connection was made."""

    happened = "The axis is not connected."
    means = "Nothing was sent."
    remedy = "Connect it in the Drive step."


class NoControl(WebRefused):
    """Another party leads, or nobody."""

    happened = "You do not have control of the axis."
    means = "Nothing was sent."
    remedy = "Take control in the strip above; then nobody else can move it."


class NotANumber(WebRefused):
    """A command was posted with something that is no finite number."""

    happened = "{what} is not a number."
    means = "Nothing moved."
    remedy = "Type it again."


class NotReady(WebRefused):
    """A precondition is missing."""

    happened = "{what}"
    means = "Nothing moved."
    remedy = "{remedy}"
