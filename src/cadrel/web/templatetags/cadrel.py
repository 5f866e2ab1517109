"""Small tags of the templates."""

import json
from typing import Any

from django import template

from cadrel.web.accounts.roles import is_engineer

register = template.Library()


@register.filter
def parts(text: str) -> list[str]:
    """What happened, what it means, what to do; plain texts count as the first."""
    try:
        found = json.loads(text)
    except ValueError:
        return [text, "", ""]
    return [str(p) for p in found] if isinstance(found, list) else [text, "", ""]


@register.filter
def engineer(user: Any) -> bool:
    """Whether the user may change things."""
    return is_engineer(user)


@register.filter
def item(mapping: dict[str, Any], key: str) -> Any:
    """Look a key up."""
    return mapping.get(key)


@register.filter
def percent(share: float) -> str:
    """0.25 -> 25."""
    return f"{100 * share:.0f}"


@register.filter
def si(value: float) -> str:
    """Four digits, with an engineering prefix only where it reads better."""
    return f"{value:.4g}"
