"""Power states of CiA 402 (IEC 61800-7-201) as a table: (state, event) -> state."""

NOT_READY = "Not ready to switch on"
DISABLED = "Switch on disabled"
READY = "Ready to switch on"
SWITCHED_ON = "Switched on"
ENABLED = "Operation enabled"
QUICK_STOP = "Quick stop active"
REACTION = "Fault reaction active"
FAULT = "Fault"

TRANSITIONS: dict[tuple[str, str], str] = {
    (NOT_READY, "initialised"): DISABLED,
    (DISABLED, "shutdown"): READY,
    (READY, "switch on"): SWITCHED_ON,
    (READY, "disable voltage"): DISABLED,
    (SWITCHED_ON, "enable operation"): ENABLED,
    (SWITCHED_ON, "shutdown"): READY,
    (SWITCHED_ON, "disable voltage"): DISABLED,
    (ENABLED, "disable operation"): SWITCHED_ON,
    (ENABLED, "shutdown"): READY,
    (ENABLED, "disable voltage"): DISABLED,
    (ENABLED, "quick stop"): QUICK_STOP,
    (QUICK_STOP, "stopped"): DISABLED,
    (QUICK_STOP, "disable voltage"): DISABLED,
    (FAULT, "fault reset"): DISABLED,
    (REACTION, "reaction done"): FAULT,
    **{(s, "fault"): REACTION for s in (NOT_READY, DISABLED, READY, SWITCHED_ON, ENABLED, QUICK_STOP)},
}


def after(state: str, event: str) -> str:
    """Return the state after an event; an event without a row leaves it as it is."""
    return TRANSITIONS.get((state, event), state)
