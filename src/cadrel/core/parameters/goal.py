"""What identification may use and what the axis must reach."""

from cadrel.core.parameters.parameter import Help, Parameter

GOAL = (
    Parameter(
        key="procedure.travel", label="Travel allowed for identification", symbol="", quantity="axis_position",
        unit="mm", step="limits", minimum=1e-5, maximum=1e6, default=None, required=True,
        help=Help("Automatic runs stay within this distance, half to each side of the start.",
                  "As much as the machine has free.", "Counted at the load, in its unit."),
    ),
    Parameter(
        key="procedure.velocity", label="Velocity allowed for identification", symbol="", quantity="axis_velocity",
        unit="mm/s", step="limits", minimum=1e-5, maximum=1e5, default=None, required=True,
        help=Help("Automatic runs never go faster.", "A third of the working speed or more.",
                  "Very slow runs see friction only."),
    ),
    Parameter(
        key="goal.distance", label="Goal: distance of the move", symbol="s", quantity="axis_position", unit="mm",
        step="limits", minimum=1e-7, maximum=1e6, default=None, required=True,
        help=Help("The real move, out and back.", "The longest or the most frequent.", "Must fit the travel limits."),
    ),
    Parameter(
        key="goal.move_time", label="Goal: time of the move", symbol="tm", quantity="time", unit="ms", step="limits",
        minimum=1e-3, maximum=100, default=None, required=True,
        help=Help("From start of command to end of command, at most.", "What the cycle leaves.",
                  "If acceleration and jerk make it longer, the goal cannot pass."),
    ),
    Parameter(
        key="goal.window", label="Goal: position window", symbol="w", quantity="axis_position", unit="mm",
        step="limits", minimum=1e-9, maximum=1e3, default=None, required=True, cia402="6067h",
        help=Help("Settled means within this of the target, and staying.", "What the process tolerates.",
                  "Below two counts of the encoder it can never be met."),
    ),
    Parameter(
        key="goal.settling_time", label="Goal: settling time", symbol="ts", quantity="time", unit="ms", step="limits",
        minimum=1e-4, maximum=100, default=None, required=True,
        help=Help("From the end of the command to the last entry into the window. Where the device's noise takes up "
                  "much of the window, of the position averaged over a fortieth of it, at most 5 ms.",
                  "What the cycle leaves.",
                  "Counted from the end of the command, not from its start."),
    ),
    Parameter(
        key="goal.following_error", label="Goal: peak following error", symbol="e", quantity="axis_position",
        unit="mm", step="limits", minimum=1e-9, maximum=1e4, default=None, required=True,
        help=Help("Largest distance from the command during the move.", "What the process tolerates.",
                  "Feedforward lowers it far more than gain."),
    ),
    Parameter(
        key="goal.dwell", label="Dwell between moves", symbol="td", quantity="time", unit="ms", step="limits",
        minimum=0.01, maximum=100, default=0.25,
        help=Help("Standstill after each move.", "Longer than the settling time.",
                  "Too short, and settling cannot be judged."),
    ),
    Parameter(
        key="goal.repeats", label="Repeats", symbol="n", quantity="count", step="limits", minimum=1, maximum=200,
        default=5.0, whole=True,
        help=Help("How often the move is made, out and back.", "Five or more show the spread.",
                  "One good move proves little."),
    ),
)
