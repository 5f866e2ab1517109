"""Commutation, current, velocity and position loops."""

import math

from cadrel.core.parameters.parameter import Help, Parameter

COMMUTATION = (
    Parameter(
        key="phasing.current", label="Phasing current, share of continuous", symbol="", quantity="ratio", unit="%",
        step="commutation", minimum=0.05, maximum=1.5, default=0.6,
        help=Help("Amplitude of the vector that turns the shaft.", "Enough to beat friction; 60 % is a good start.",
                  "Too little and the shaft does not follow; nothing is recorded then."),
    ),
    Parameter(
        key="phasing.power_up", label="Angle at power-up", symbol="", quantity="count", step="commutation",
        minimum=0, maximum=1, default="alignment",
        choices=(("alignment", "alignment: the shaft is pulled to a vector"), ("search", "search by small motion")),
        help=Help("How the rotor angle is found at power-up when nothing tells it: no Halls, not absolute.",
                  "The search where the axis may hardly move; alignment where it may turn.",
                  "Both need the axis free: a blocked shaft is refused."),
    ),
    Parameter(
        key="commutation.valid", label="Commutation found", symbol="", quantity="count", storage="drive",
        step="commutation", minimum=0, maximum=1, default="0", choices=(("0", "no"), ("1", "yes")),
        help=Help("The drive closes no loop on the rotor angle before this is yes.", "Set by the commutation step.",
                  "Set by hand without a check, the motor may run away."),
    ),
    Parameter(
        key="commutation.offset", label="Electrical angle at index or zero", symbol="φ₀", quantity="angle", unit="°",
        storage="drive", step="commutation", minimum=-2 * math.pi, maximum=2 * math.pi, default=0.0, cia402=None,
        help=Help("Rotor's electrical angle at the index pulse, or where an absolute device shows zero.",
                  "Found by alignment.",
                  "25.8° off costs a tenth of the torque; beyond 90° it runs away."),
    ),
    Parameter(
        key="commutation.hall_offset", label="Electrical angle entering Hall state 1", symbol="φH", quantity="angle",
        unit="°", storage="drive", step="commutation", minimum=-2 * math.pi, maximum=2 * math.pi, default=0.0,
        help=Help("Angle of the edge from state 5 to state 1, turning forward.", "Learned by turning the vector.",
                  "One sector wrong is 60°: half the torque."),
    ),
    Parameter(
        key="commutation.hall_mirrored", label="Hall sequence", symbol="", quantity="count", storage="drive",
        step="commutation", minimum=0, maximum=1, default="0",
        choices=(("0", "1-3-2-6-4-5 forward"), ("1", "mirrored")),
        help=Help("Order of the six states when turning forward.", "Learned by turning the vector.",
                  "Two Hall wires swapped mirror it."),
    ),
)

HALL_EDGES = (
    *(
        Parameter(
            key=f"commutation.hall_edge_{k}", label=f"Edge {k} off the even grid", symbol=f"δ{k}", quantity="angle",
            unit="°", storage="drive", step="commutation", minimum=-math.pi / 6, maximum=math.pi / 6, default=0.0,
            help=Help(f"Placement error of the edge into sector {k}, counted forward from state 1.",
                      "Learned by turning the vector.", "Left at zero, each edge misleads by its placement error."),
        )
        for k in range(1, 7)
    ),
    Parameter(
        key="commutation.hall_hysteresis", label="Hysteresis of the Halls", symbol="h", quantity="angle", unit="°",
        storage="drive", step="commutation", minimum=0, maximum=math.pi / 6, default=0.0,
        help=Help("By how much an edge comes later than its middle, forward and back together.",
                  "Learned by turning the vector both ways.", "Taken for play of the shaft."),
    ),
)

SIGNALS = (
    Parameter(
        key="signal.offset_cos", label="Offset of the cosine", symbol="x₀", quantity="ratio", unit="%",
        storage="drive", step="commutation", minimum=-0.5, maximum=0.5, default=0.0,
        help=Help("Mean of the cosine signal, in shares of its amplitude.", "Found by the fit of the signal circle.",
                  "Corrected by hand twice over."),
    ),
    Parameter(
        key="signal.offset_sin", label="Offset of the sine", symbol="y₀", quantity="ratio", unit="%",
        storage="drive", step="commutation", minimum=-0.5, maximum=0.5, default=0.0,
        help=Help("Mean of the sine signal, in shares of the amplitude.", "Found by the fit of the signal circle.",
                  "It moves with temperature: look again when warm."),
    ),
    Parameter(
        key="signal.gain", label="Sine over cosine", symbol="g", quantity="plain", storage="drive",
        step="commutation", minimum=0.4, maximum=2.5, default=1.0,
        help=Help("Ratio of the two amplitudes.", "Found by the fit of the signal circle.",
                  "Far from 1, a wire or a head is at fault, not the correction."),
    ),
    Parameter(
        key="signal.quadrature", label="Quadrature error", symbol="ψ", quantity="angle", unit="°", storage="drive",
        step="commutation", minimum=-0.7, maximum=0.7, default=0.0,
        help=Help("By how much the sine is ahead of a quarter period.", "Found by the fit of the signal circle.",
                  "A scanning head that stands askew."),
    ),
)

CURRENT = (
    Parameter(
        key="current.bandwidth", label="Wanted bandwidth", symbol="fB", quantity="frequency", unit="Hz",
        step="current", minimum=50, maximum=3000, default=1000.0,
        help=Help("Closed-loop bandwidth the gains are computed for.", "700 Hz will run, 1 kHz is good at 62.5 µs.",
                  "Above 1.3 kHz the delay eats the margin."),
    ),
    Parameter(
        key="current.gain", label="Gain", symbol="Kp", quantity="current_gain", unit="V/A", storage="drive",
        step="current", minimum=1e-4, maximum=1e4, default=1.0,
        help=Help("Volts per ampere of error.", "2π · bandwidth · L.", "Squeal means too high."),
    ),
    Parameter(
        key="current.reset_time", label="Reset time", symbol="Tn", quantity="time", unit="ms", storage="drive",
        step="current", minimum=1e-5, maximum=10, default=5e-3,
        help=Help("Time constant of the integral part.", "L / R cancels the winding's pole.",
                  "Too short: overshoot in current."),
    ),
)

DEAD_SHAPES = ("gradual", "rounded", "sharp")  # codes 0 to 2 of `current.dead_shape`

INVERTER = (
    Parameter(
        key="current.dead_voltage", label="Dead-time voltage", symbol="Udt", quantity="voltage", unit="V",
        storage="drive", step="current", minimum=0, maximum=20, default=0.0,
        help=Help("What each phase loses to the dead time at large currents; the drive adds it. 0: it adds nothing.",
                  "Measured by the current-loop run.",
                  "Too much is worse than too little: the current then runs ahead of its command near zero."),
    ),
    Parameter(
        key="current.dead_current", label="Current where dead time bends", symbol="i0", quantity="current",
        unit="A", storage="drive", step="current", minimum=1e-4, maximum=100, default=0.1,
        help=Help("Scale of the current over which the lost voltage changes its sign.",
                  "Measured by the current-loop run.", "Too small makes a kick at each zero of a phase current."),
    ),
    Parameter(
        key="current.dead_shape", label="Bend of the dead time", symbol="", quantity="count", storage="drive",
        step="current", minimum=0, maximum=2, default="1",
        choices=(("0", "gradual"), ("1", "rounded"), ("2", "sharp")),
        help=Help("How the lost voltage goes over x, the current over i0: x/(1+|x|), x/√(1+x²), or straight to ±1.",
                  "Measured by the current-loop run.", "A wrong bend leaves a tenth of the lost voltage."),
    ),
    *(
        Parameter(
            key=f"current.offset_{phase}", label=f"Sensor offset, phase {phase}", symbol=f"io{phase}",
            quantity="current", unit="A", storage="drive", step="current", minimum=-50, maximum=50, default=0.0,
            help=Help("What the sensor shows without current; the drive takes it off.",
                      "Measured with the power stage off.",
                      "Left in, torque ripples once per electrical turn."),
        )
        for phase in ("a", "b")
    ),
    Parameter(
        key="current.sensor_gain_b", label="Sensor gain, phase b over a", symbol="gb", quantity="ratio", unit="%",
        storage="drive", step="current", minimum=0.5, maximum=2, default=1.0,
        help=Help("What the second current sensor shows over what the first would; the drive divides by it.",
                  "Measured by the current-loop run, from the voltage across a held vector.",
                  "Left in, torque ripples twice per electrical turn."),
    ),
)

SECTIONS = (2, 3, 4)  # second-order sections behind the notch, which is the first


def _section(n: int) -> tuple[Parameter, ...]:
    """One second-order section of the torque command: two zeros over two poles, of gain 1 at rest."""
    key, name = f"velocity.section{n}", f"Section {n}"
    return (
        Parameter(
            key=f"{key}_zero", label=f"{name}, zeros at", symbol=f"fz{n}", quantity="frequency", unit="Hz",
            storage="drive", step="velocity", minimum=0, maximum=1900, default=0.0,
            help=Help("Where the gain dips. 0: no zeros, a low-pass.", "On or just beside a resonance.",
                      "Without poles at some frequency the section is off."),
        ),
        Parameter(
            key=f"{key}_zero_damping", label=f"{name}, damping of the zeros", symbol=f"ζz{n}", quantity="ratio",
            unit="", storage="drive", step="velocity", minimum=0, maximum=4, default=0.1,
            help=Help("How sharp the dip is.", "As damped as the resonance or a little more.",
                      "0 cuts one frequency out and turns the phase by half a turn there."),
        ),
        Parameter(
            key=f"{key}_pole", label=f"{name}, poles at", symbol=f"fp{n}", quantity="frequency", unit="Hz",
            storage="drive", step="velocity", minimum=0, maximum=1900, default=0.0,
            help=Help("Above the zeros the gain rises, below them it falls. 0: off.",
                      "Equal to the zeros: a notch. Above: more phase below. Below: less gain beyond.",
                      "Poles far above the zeros amplify noise by the square of their ratio."),
        ),
        Parameter(
            key=f"{key}_pole_damping", label=f"{name}, damping of the poles", symbol=f"ζp{n}", quantity="ratio",
            unit="", storage="drive", step="velocity", minimum=0.02, maximum=4, default=0.5,
            help=Help("How wide the section works.", "0.2 to 1; wider where the load changes.",
                      "A section less damped than the machine rings by itself."),
        ),
    )  # fmt: skip


VELOCITY = (
    Parameter(
        key="tuning.matters", label="What matters most", symbol="", quantity="count", step="velocity", minimum=0,
        maximum=2, default="settling",
        choices=(
            ("settling", "settling"), ("disturbance", "disturbance"), ("overshoot", "no overshoot"),
        ),
        help=Help("What the tuner gives up last where a load swings behind its shaft: settling of the planned move, "
                  "stiffness against disturbance, or settling without ever passing the target.",
                  "Settling as a rule; disturbance where a tool pushes back; no overshoot where it would touch parts.",
                  "The stiffest motor holds a soft load no better, and lets it swing for longer."),
    ),
    Parameter(
        key="tuning.phase_margin", label="Phase margin, at least", symbol="φm", quantity="angle", unit="°",
        step="velocity", minimum=math.radians(20), maximum=math.radians(80), default=math.radians(45),
        help=Help("Distance from instability at crossover.", "45° usual, 60° calm.", "Below 30° it rings."),
    ),
    Parameter(
        key="tuning.gain_margin", label="Gain margin, at least", symbol="Am", quantity="level", unit="dB",
        step="velocity", minimum=3, maximum=20, default=8.0,
        help=Help("How much the gain may grow before it swings.", "6 dB least, 8 dB usual.",
                  "A load that gets lighter uses it up."),
    ),
    Parameter(
        key="tuning.sensitivity_peak", label="Peak sensitivity, at most", symbol="Ms", quantity="plain", unit="",
        step="velocity", minimum=1.2, maximum=3, default=1.8,
        help=Help("Worst amplification of a disturbance.", "1.6 robust, 2.0 lively.", "Above 2 a changed load hurts."),
    ),
    Parameter(
        key="tuning.resonance_drift", label="Resonance may drift by", symbol="", quantity="ratio", unit="%",
        step="velocity", minimum=0, maximum=0.3, default=0.05,
        help=Help("The margins hold with every resonance so much lower and higher.", "5 %; more where belts age.",
                  "At 0 a loop may be stable only where it was tuned."),
    ),
    Parameter(
        key="tuning.inertia_least", label="Inertia may fall to", symbol="", quantity="ratio", unit="%",
        step="velocity", minimum=0.2, maximum=1, default=0.7,
        help=Help("Least inertia, of the one measured, with which the loop stays stable.",
                  "The empty machine over the loaded one.", "A load that comes off makes every loop quicker."),
    ),
    Parameter(
        key="tuning.inertia_most", label="Inertia may rise to", symbol="", quantity="ratio", unit="%",
        step="velocity", minimum=1, maximum=5, default=1.5,
        help=Help("Largest inertia, of the one measured, with which the loop stays stable.",
                  "The loaded machine over the empty one.", "A heavier load makes a short reset time ring."),
    ),
    Parameter(
        key="tuning.ripple", label="Current ripple at rest, at most", symbol="", quantity="ratio", unit="%",
        step="velocity", minimum=0.002, maximum=0.5, default=0.1,
        help=Help("What the device's noise may make of current, rms, of the continuous current.",
                  "10 % warms the motor by a hundredth; 2 % is quiet.",
                  "Squeal at rest is this; a finer device allows more gain."),
    ),
    Parameter(
        key="velocity.gain", label="Gain", symbol="Kp", quantity="velocity_gain", unit="N·m·s", storage="drive",
        step="velocity", minimum=1e-8, maximum=1e4, default=0.01,
        help=Help("Torque per speed error.", "As high as the margins allow.", "Squeal means too high."),
    ),
    Parameter(
        key="velocity.reset_time", label="Reset time", symbol="Tn", quantity="time", unit="ms", storage="drive",
        step="velocity", minimum=5e-4, maximum=10, default=0.05,
        help=Help("Time constant of the integral part.", "Four or more over the crossover in rad/s.",
                  "Too short: overshoot at the end. Too long: a slow tail."),
    ),
    Parameter(
        key="velocity.oscillation_reaction", label="Where the loop swings ever wider", symbol="", quantity="count",
        storage="drive", step="velocity", minimum=0, maximum=2, default="0",
        choices=(("0", "halve gains"), ("1", "cut power"), ("2", "do nothing")),
        help=Help("What the drive does when four half periods in a row grow beyond 40 % of the continuous current.",
                  "Halving goes on with half of position and velocity gain, three times at most; then power is cut.",
                  "Doing nothing leaves it to the guard, and to the shaft."),
    ),
    Parameter(
        key="velocity.feedback_filter", label="Speed filter", symbol="ff", quantity="frequency", unit="Hz",
        storage="drive", step="velocity", minimum=20, maximum=1900, default=800.0,
        help=Help("First-order low-pass on the measured speed.", "High, unless quantisation is heard.",
                  "Each halving costs phase at the crossover."),
    ),
    Parameter(
        key="velocity.torque_filter", label="Torque filter", symbol="flp", quantity="frequency", unit="Hz",
        storage="drive", step="velocity", minimum=20, maximum=1900, default=1200.0,
        help=Help("First-order low-pass on the torque command.", "Three or more times the crossover.",
                  "Too low it destabilises instead of calming."),
    ),
    Parameter(
        key="velocity.notch_frequency", label="Notch", symbol="fn", quantity="frequency", unit="Hz", storage="drive",
        step="velocity", minimum=0, maximum=1900, default=0.0,
        help=Help("Centre of the notch against a resonance. 0: off.", "The measured resonance.",
                  "On the anti-resonance it does nothing."),
    ),
    Parameter(
        key="velocity.notch_depth", label="Notch depth", symbol="dn", quantity="level", unit="dB", storage="drive",
        step="velocity", minimum=-60, maximum=0, default=0.0,
        help=Help("Gain at the centre of the notch.", "As much as the resonance stands out.",
                  "Deeper than needed costs phase below it."),
    ),
    Parameter(
        key="velocity.notch_width", label="Notch width", symbol="ζn", quantity="ratio", unit="", storage="drive",
        step="velocity", minimum=0.01, maximum=2, default=0.3,
        help=Help("Damping ratio of the notch's poles.", "0.2 to 0.6; wider if the load changes.",
                  "Too narrow and a warm machine leaves it."),
    ),
    *(parameter for n in SECTIONS for parameter in _section(n)),
)

POSITION = (
    Parameter(
        key="tuning.load_peak", label="Load may swing above the command by", symbol="", quantity="level", unit="dB",
        step="position", minimum=0.5, maximum=20, default=2.0,
        help=Help("Largest gain from commanded position to the load's, by the identified model.",
                  "2 dB is calm; more where the load may ring and the motor must be quick.",
                  "A motor that stands still says nothing of a load that swings behind its shaft."),
    ),
    Parameter(
        key="position.gain", label="Position gain", symbol="Kv", quantity="loop_gain", unit="1/s", storage="drive",
        step="position", minimum=0.01, maximum=5000, default=10.0,
        help=Help("Speed commanded per position error.", "Up to a third of the velocity crossover in rad/s.",
                  "Overshoot on a step means too high."),
    ),
    Parameter(
        key="position.velocity_feedforward", label="Velocity feedforward", symbol="FFv", quantity="ratio", unit="%",
        storage="drive", step="position", minimum=0, maximum=1.5, default=1.0,
        help=Help("Share of the commanded speed given directly.", "100 % removes most of the lag v / Kv.",
                  "Over 100 % the load runs ahead."),
    ),
    Parameter(
        key="position.acceleration_feedforward", label="Acceleration feedforward", symbol="FFa", quantity="ratio",
        unit="%", storage="drive", step="position", minimum=0, maximum=1.5, default=0.0,
        help=Help("Share of inertia times commanded acceleration given directly.", "100 % once the inertia is known.",
                  "With a wrong inertia it makes overshoot."),
    ),
    Parameter(
        key="position.friction_feedforward", label="Friction feedforward", symbol="FFr", quantity="ratio",
        unit="%", storage="drive", step="position", minimum=0, maximum=1.2, default=0.0,
        help=Help("Share of the sliding friction given directly, the way the command moves.",
                  "80 %: friction varies along the travel.",
                  "Over what really rubs, the axis is pushed at every turn of direction."),
    ),
    Parameter(
        key="position.shaping_frequency", label="Command notch", symbol="fc", quantity="frequency", unit="Hz",
        storage="drive", step="position", minimum=0, maximum=1800, default=0.0,
        help=Help("Where planned moves leave the load unexcited; 0 is off. The loop itself is not touched.",
                  "On the anti-resonance, where the load swings against a motor that stands; tuning finds it.",
                  "Low ones make every move longer by about their period."),
    ),
    Parameter(
        key="position.shaping_depth", label="Depth of the command notch", symbol="dc", quantity="level", unit="dB",
        storage="drive", step="position", minimum=-60, maximum=0, default=0.0,
        help=Help("Gain at its centre.", "The load's damping over the width: what swings is cancelled, no more.",
                  "0 dB is no notch."),
    ),
    Parameter(
        key="position.shaping_width", label="Width of the command notch", symbol="ζc", quantity="ratio", unit="",
        storage="drive", step="position", minimum=0.05, maximum=2, default=1.0,
        help=Help("Damping ratio of its poles.", "1: wide enough for a load that is a few percent elsewhere.",
                  "A narrow one is left by a load that changes."),
    ),
)
