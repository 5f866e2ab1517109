"""Small tags of the templates."""

import math
from typing import Any

import orjson
from django import template
from django.utils.safestring import SafeString, mark_safe

from cadrel.core.verdict import told
from cadrel.web.accounts.roles import is_administrator, is_engineer

register = template.Library()


@register.filter
def data_script(value: Any, dom_id: str = "") -> SafeString:
    """Return `value` in a JSON script element, as Django's `json_script`, at a tenth of its cost for long curves."""
    text = orjson.dumps(value, option=orjson.OPT_SERIALIZE_NUMPY).decode()
    for sign, escape in (("<", "\\u003C"), (">", "\\u003E"), ("&", "\\u0026")):
        text = text.replace(sign, escape)
    name = f' id="{dom_id}"' if dom_id else ""
    return mark_safe(f'<script{name} type="application/json">{text}</script>')


@register.filter
def engineer(user: Any) -> bool:
    """Whether the user may change things."""
    return is_engineer(user)


@register.filter
def administrator(user: Any) -> bool:
    """Whether the user may add people and delete."""
    return is_administrator(user)


@register.filter
def item(mapping: dict[str, Any], key: str) -> Any:
    """Look a key up."""
    return mapping.get(key)


@register.filter
def percent(share: float) -> str:
    """0.25 -> 25."""
    return f"{100 * share:.0f}"


# SI as findings keep it -> what is read at the machine
READ_AS = {
    "rad": (180 / math.pi, "°"),
    "s": (1e3, "ms"),
    "kg·m²": (1e4, "kg·cm²"),
    "H": (1e3, "mH"),
    "Wb": (1e3, "mWb"),
}

ROUNDING = 1e-9  # of whatever is read: far below any measurement
WHOLE_COUNTS = 1000  # from here a part of a count is of no interest, every digit before it is
SMALL_TORQUE = 0.01  # [N·m] below it torques and their slopes are read in thousandths


@register.filter
def reading(finding: Any) -> str:
    """Value and uncertainty of a finding in the unit it is read in."""
    factor, unit = READ_AS.get(finding.unit, (1.0, finding.unit))
    if finding.unit.startswith("N·m") and abs(finding.value) < SMALL_TORQUE:
        factor, unit = 1e3, "m" + finding.unit.removesuffix("/rad")
    if finding.unit == "counts" and abs(finding.value) >= WHOLE_COUNTS:
        return f"{finding.value:.0f} counts"
    doubt = f" ± {finding.std * factor:.2g}" if finding.std else ""
    return f"{finding.value * factor:.4g}{doubt} {unit}"


@register.filter
def si(value: float) -> str:
    """Four digits; what is nothing but rounding is 0."""
    return f"{0.0 if abs(value) < ROUNDING else value:.4g}"


@register.filter
def beside(value: float, other: float) -> str:
    """As `si`, in more digits where four would show a value that is near to another one as that."""
    return told(0.0 if abs(value) < ROUNDING else value, other, digits=4)
