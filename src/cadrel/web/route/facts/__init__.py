"""The right half of an entry step: what was understood, checks, derived values, pictures.

motor.py, feedback.py, mechanics.py, power.py, limits.py   entries of a step -> Facts
pictures.py                                                the points of their drawings
"""

import json
from collections.abc import Callable, Mapping
from functools import lru_cache

from cadrel.core.errors import CadrelError
from cadrel.core.parameters import Entry, defaults
from cadrel.web.route.facts.feedback import feedback_facts
from cadrel.web.route.facts.limits import limits_facts
from cadrel.web.route.facts.mechanics import mechanics_facts
from cadrel.web.route.facts.motor import motor_facts
from cadrel.web.route.facts.power import power_facts
from cadrel.web.route.facts.shape import Facts

BUILDERS: dict[str, Callable[[Mapping[str, Entry]], Facts]] = {
    "motor": motor_facts,
    "feedback": feedback_facts,
    "mechanics": mechanics_facts,
    "power": power_facts,
    "limits": limits_facts,
}


def understood_of(step: str, values: Mapping[str, Entry]) -> Facts:
    """Return what is understood of a step; `problem` says why there is nothing."""
    return _understood(step, json.dumps(values, sort_keys=True))


@lru_cache(maxsize=256)
def _understood(step: str, text: str) -> Facts:
    """As above, by the entries' text: every page shows the whole route, and values change far less often than pages."""
    values: dict[str, Entry] = json.loads(text)
    try:
        facts = BUILDERS[step]({**defaults(), **values})
    except CadrelError as error:
        return Facts(problem=error.parts[0])
    except (ArithmeticError, ValueError):
        # Entries that are each possible can make numbers no machine has; the fields say the rest.
        return Facts(
            problem="These values together make no axis one can compute with; look for a slipped digit or unit."
        )
    facts.checks.sort(key=lambda c: ("wrong", "look", "agrees").index(c.state))
    return facts


__all__ = ["Facts", "understood_of"]
