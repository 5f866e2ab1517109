"""The steps in working order, and what each depends on.

A change of a step's parameters makes every step that depends on it stale, directly or through others.
"""

from dataclasses import dataclass

from cadrel.core.parameters.registry import REGISTRY


@dataclass(frozen=True, slots=True)
class Step:
    """One step of the route: key, title, the steps whose values its results rest on."""

    key: str
    title: str
    needs: tuple[str, ...]
    proven_by: tuple[str, ...] = ()  # kinds of finding that prove it


STEPS: tuple[Step, ...] = (
    Step("motor", "Motor", ()),
    Step("feedback", "Feedback", (), ("hand_test",)),
    Step("mechanics", "Mechanics", ()),
    Step("power", "Power", ()),
    Step("limits", "Limits and goal", ("mechanics",)),
    Step("drive", "Drive", ()),
    Step("commutation", "Commutation", ("motor", "feedback"), ("commutation",)),
    Step("current", "Current loop", ("motor", "power", "commutation"), ("current_loop",)),
    Step("load", "Load", ("motor", "feedback", "mechanics", "commutation", "current"), ("load",)),
    Step("velocity", "Velocity loop", ("current", "load"), ("velocity_loop",)),
    Step("position", "Position loop", ("velocity", "limits"), ("position_loop",)),
    Step("stops", "Brake and stops", ("velocity",), ("brake_holding", "stop_energy")),
    Step("acceptance", "Acceptance", ("position", "limits"), ("acceptance",)),
    Step("handover", "Hand-over", ("acceptance",), ("handover",)),
)

_BY_KEY = {step.key: step for step in STEPS}


def steps_after(key: str) -> tuple[str, ...]:
    """Return the keys of all steps that rest on `key`, in working order, without itself."""
    reached = {key}
    for step in STEPS:  # needs point backwards only, so one pass closes the set
        if reached & set(step.needs):
            reached.add(step.key)
    return tuple(step.key for step in STEPS if step.key in reached and step.key != key)


def invalidated_by(step: str, *, own_result: bool = True) -> tuple[str, ...]:
    """Return the steps whose proof falls when a value of `step` changes.

    Parameters
    ----------
    own_result
        The step's own proof rests on its values too, as a tuned loop's does on its gains.
    """
    own = (step,) if own_result and _BY_KEY[step].proven_by else ()
    return own + steps_after(step)


def field_of(key: str) -> str:
    """Return how advice names a field: its label in quotation marks and the step that holds it.

    Advice is made from the registry, so that it names a field that is there, by the name it has.
    """
    p = REGISTRY[key]
    step = next((s.title for s in STEPS if s.key == p.step), p.step)
    return f"\u201c{p.label}\u201d ({step})"


def full_label(key: str) -> str:
    """Return a label that stands alone: where two parameters share one, with the step it belongs to."""
    p = REGISTRY[key]
    if sum(other.label == p.label for other in REGISTRY.values()) == 1:
        return p.label
    step = next((s.title for s in STEPS if s.key == p.step), p.step)
    return f"{step}: {p.label[0].lower()}{p.label[1:]}"
