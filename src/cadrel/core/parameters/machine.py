"""Mechanics, power and limits."""

from cadrel.core.parameters.parameter import Help, Parameter

TURNING = ("sheet.kind", ("rotary", "dc", "stepper", "induction"))
GEARED = (("mechanics.kind", ("rotary", "rack", "screw")), TURNING)
DRAWING = (("mechanics.kind", ("rack", "screw")), TURNING)
STOPS = ("stops",)  # what is measured of brake and bus; no loop rests on it
BRAKED = (("brake.fitted", ("drive", "controller")),)
PINNED = (*BRAKED, ("brake.kind", ("pin",)))

MECHANICS = (
    Parameter(
        key="mechanics.kind", label="Mechanism", symbol="", quantity="count", step="mechanics", minimum=0, maximum=1,
        default="rotary", required=True, when=(TURNING,),
        choices=(("rotary", "rotary, direct or geared"), ("rack", "rack or belt"), ("screw", "screw")),
        help=Help("What turns the motor's turns into the load's motion.", "Name the last element; gears go in front.",
                  "A belt is given by its feed per turn, not by the pulley's diameter."),
    ),
    Parameter(
        key="mechanics.ratio", label="Gear ratio, motor turns per output turn", symbol="i", quantity="plain",
        step="mechanics", minimum=1e-3, maximum=1e4, default=1.0, required=True, when=GEARED,
        help=Help("How often the motor turns while the output turns once.", "30:1 reducing is 30.",
                  "Entered upside down, the load seems 900 times heavier."),
    ),
    Parameter(
        key="mechanics.ratio_second", label="Second stage, turns in per turn out", symbol="i2", quantity="plain",
        step="mechanics", minimum=1e-3, maximum=1e4, default=1.0, when=GEARED,
        help=Help("Another gear or belt behind the first; the ratios multiply.", "A belt: teeth out over teeth in.",
                  "Left out, the load moves faster than the page says."),
    ),
    Parameter(
        key="mechanics.feed", label="Feed per output turn", symbol="h", quantity="length", unit="mm",
        step="mechanics", minimum=1e-5, maximum=10, default=None, required=True, when=DRAWING,
        help=Help(
            "Travel of the load per turn of pinion, pulley or screw.", "Rack: teeth times pitch. Screw: its lead.",
            "The pinion's diameter is not the feed: times π."
        ),
    ),
    Parameter(
        key="mechanics.gear_inertia", label="Gear and coupling at the motor", symbol="JG", quantity="inertia",
        unit="kg·cm²", step="mechanics", minimum=0, maximum=100, default=0.0, when=GEARED,
        help=Help("What turns with the motor besides its rotor.", "From the gear's sheet, at its input.",
                  "At the output it would be larger by the ratio squared."),
    ),
    Parameter(
        key="mechanics.load_mass", label="Moving mass", symbol="m", quantity="mass", unit="kg", step="mechanics",
        minimum=0, maximum=1e5, default=0.0,
        help=Help("What moves in a straight line with the load.", "Carriage, tool and the heaviest workpiece.",
                  "Leave 0 if nobody knows; identification finds it."),
    ),
    Parameter(
        key="mechanics.load_inertia", label="Load inertia at the output", symbol="JL", quantity="inertia",
        unit="kg·cm²", step="mechanics", minimum=0, maximum=1e4, default=0.0, when=GEARED,
        help=Help("What turns with the output.", "Pinion, pulley, screw, table.",
                  "At the output, not reflected to the motor: the tool divides by the ratio squared."),
    ),
    Parameter(
        key="mechanics.efficiency", label="Efficiency of the mechanism", symbol="η", quantity="ratio", unit="%",
        step="mechanics", minimum=0.05, maximum=1, default=1.0,
        help=Help(
            "Share of the motor's power that reaches the load.", "Spur gear 97 %, worm 50 to 80 %, ball screw 90 %.",
            "It helps while braking: less comes back."
        ),
    ),
    Parameter(
        key="mechanics.orientation", label="Orientation", symbol="", quantity="count", step="mechanics", minimum=0,
        maximum=1, default="horizontal",
        choices=(("horizontal", "horizontal"), ("vertical", "vertical"), ("incline", "incline")),
        help=Help("How the load's path lies.", "A turning load that is balanced is horizontal.",
                  "A vertical axis sags when power goes: think of the brake."),
    ),
    Parameter(
        key="mechanics.incline", label="Incline", symbol="β", quantity="angle", unit="°", step="mechanics",
        minimum=-1.5708, maximum=1.5708, default=0.0, when=(("mechanics.orientation", ("incline",)),),
        help=Help("Angle of the path against the horizontal.", "Positive if the load climbs moving forward.",
                  "The angle against the vertical is 90° less."),
    ),
    Parameter(
        key="mechanics.counterweight", label="Counterweight", symbol="mc", quantity="mass", unit="kg",
        step="mechanics", minimum=0, maximum=1e5, default=0.0,
        when=(("mechanics.orientation", ("vertical", "incline")),),
        help=Help("Mass that pulls the other way.", "It moves along and adds to the inertia.",
                  "A gas spring is a counter-force, not a weight."),
    ),
    Parameter(
        key="mechanics.counter_force", label="Counter-force along the path", symbol="Fg", quantity="force", unit="N",
        step="mechanics", minimum=-1e6, maximum=1e6, default=0.0,
        help=Help("Constant force against moving forward.", "Process force; a gas spring that lifts is negative.",
                  "Friction is another entry: it turns with direction."),
    ),
    Parameter(
        key="mechanics.friction_force", label="Friction along the path", symbol="Fr", quantity="force", unit="N",
        step="mechanics", minimum=0, maximum=1e6, default=0.0,
        help=Help("Force to keep the load moving.", "Pull with a spring scale; identification finds it at the motor.",
                  "Seals of a new guide count double."),
    ),
    Parameter(
        key="load.inertia", label="Total inertia at the motor", symbol="J", quantity="inertia", unit="kg·cm²",
        storage="drive", step="load", minimum=1e-9, maximum=100, default=1e-4,
        help=Help(
            "Motor and reflected load together; the acceleration feedforward uses it.", "Take the identified value.",
            "The sheet's rotor alone leaves the load out."
        ),
    ),
    Parameter(
        key="load.friction", label="Sliding friction at the motor", symbol="Tr", quantity="torque", unit="N·m",
        storage="drive", step="load", minimum=0, maximum=1e5, default=0.0,
        help=Help("Of all that moves; the friction feedforward uses it.", "Take the identified value.",
                  "Breakaway is more, and is overcome by the loop."),
    ),
)

POWER = (
    Parameter(
        key="power.supply_kind", label="Supply", symbol="", quantity="count", step="power", minimum=0, maximum=1,
        default="ac", required=True,
        choices=(("ac", "single-phase mains"), ("ac3", "three-phase mains"), ("dc", "dc")),
        help=Help("What feeds the drive's bus.", "Mains rectified: the bus is 1.41 times the line voltage.",
                  "A 400 V line on a 230 V drive destroys it."),
    ),
    Parameter(
        key="power.supply_voltage", label="Supply voltage", symbol="U", quantity="voltage", unit="V", step="power",
        minimum=10, maximum=700, default=None, required=True,
        help=Help("Line to line rms for mains, the bus itself for dc.", "From the cabinet's plate.",
                  "1.41 times it must stay under the drive's highest bus voltage."),
    ),
    Parameter(
        key="power.drive_class", label="Drive built for", symbol="", quantity="count", step="power", minimum=0,
        maximum=1, default="unknown",
        choices=(
            ("unknown", "not entered"), ("dc80", "up to 80 V dc"), ("ac230", "230 V class"), ("ac400", "400 V class"),
        ),
        help=Help("Supply class on the drive's plate.", "Read the plate, not the order.",
                  "The wrong class destroys the drive within a mains period."),
    ),
    Parameter(
        key="power.drive_current_continuous", label="Drive, continuous current", symbol="IDc", quantity="current",
        unit="A", convention="sine", step="power", minimum=0.05, maximum=5000, default=None,
        improves="Limits what the motor gets.",
        help=Help("What the drive gives for ever.", "From its plate.", "Plates print rms; data sheets sometimes peak."),
    ),
    Parameter(
        key="power.drive_current_peak", label="Drive, peak current", symbol="IDp", quantity="current", unit="A",
        convention="sine", step="power", minimum=0.05, maximum=8000, default=None,
        relative_to="power.drive_current_continuous", improves="Limits peak torque in the map.",
        help=Help("What the drive gives for a second or so.", "From its sheet.",
                  "Plates print rms; data sheets sometimes peak."),
    ),
    Parameter(
        key="power.bus_capacitance", label="Bus capacitance", symbol="C", quantity="capacitance", unit="µF",
        step="power", minimum=1e-6, maximum=1, default=560e-6,
        rests=STOPS,
        help=Help("Of the drive's dc bus.", "From its sheet; shared buses add up.",
                  "It takes the first joules of braking."),
    ),
    Parameter(
        key="power.chopper_threshold", label="Chopper threshold", symbol="Uch", quantity="voltage", unit="V",
        step="power", minimum=12, maximum=1200, default=None, improves="Sizes the brake resistor.",
        rests=STOPS,
        help=Help("Bus voltage at which the resistor is switched on.",
                  "From the drive's sheet; 1.2 times the nominal bus if empty.", "It must lie above high mains."),
    ),
    Parameter(
        key="power.brake_resistor", label="Brake resistor", symbol="Rb", quantity="resistance", unit="ohm",
        step="power", minimum=0, maximum=1e4, default=0.0,
        rests=STOPS,
        help=Help("Burns the energy of braking. 0: none fitted.", "At least the drive's smallest allowed value.",
                  "Without one a heavy load trips the drive while it stops."),
    ),
    Parameter(
        key="power.brake_power", label="Its continuous power", symbol="Pb", quantity="power", unit="W", step="power",
        minimum=1, maximum=1e5, default=None, improves="Checks the resistor against the cycle.",
        rests=STOPS,
        help=Help("What the resistor stands for ever.", "From its plate, at the mounting's air.",
                  "Peak ratings for a second are ten times that."),
    ),
    Parameter(
        key="power.brake_minimum", label="Smallest resistor the drive stands", symbol="Rmin", quantity="resistance",
        unit="ohm", step="power", minimum=0.1, maximum=1e4, default=None, improves="Checks and combines resistors.",
        rests=STOPS,
        help=Help("Below it the chopper transistor fails.", "From the drive's sheet.", "Two in parallel halve it."),
    ),
    Parameter(
        key="power.cycle_time", label="Time of a cycle", symbol="tc", quantity="time", unit="s", step="power",
        minimum=1e-3, maximum=86400, default=1.0,
        rests=STOPS,
        help=Help("After which the motion repeats.", "Of the real machine.", "The move alone is not the cycle."),
    ),
    Parameter(
        key="power.stops_per_cycle", label="Decelerations in a cycle", symbol="n", quantity="count", step="power",
        minimum=0, maximum=1000, default=2.0, whole=True,
        rests=STOPS,
        help=Help("How often it brakes from speed in a cycle.", "Back and forth is two.", "Each returns its energy."),
    ),
    Parameter(
        key="brake.fitted", label="Holding brake", symbol="", quantity="count", step="power", minimum=0, maximum=1,
        default="none",
        choices=(
            ("none", "none"), ("drive", "operated by the drive"), ("controller", "operated by the controller"),
        ),
        help=Help("Holds the axis without power.", "A vertical axis needs one.", "It is not made for stopping motion."),
    ),
    Parameter(
        key="brake.torque", label="Brake torque at the motor", symbol="Mb", quantity="torque", unit="N·m",
        step="power", minimum=1e-4, maximum=1e5, default=None, when=BRAKED, improves="Checks that it holds the load.",
        rests=STOPS,
        help=Help("Static torque of the brake.", "From the motor's sheet.", "Worn or oily, it is half of that."),
    ),
    Parameter(
        key="brake.pull_in_voltage", label="Pull-in voltage", symbol="Ub", quantity="voltage", unit="V",
        storage="drive", step="power", minimum=1, maximum=400, default=24.0, when=BRAKED,
        rests=STOPS,
        help=Help("Voltage that opens it.", "24 V is usual.", "Less than 90 % of it may not open."),
    ),
    Parameter(
        key="brake.pull_in_time", label="Pull-in time", symbol="tb", quantity="time", unit="ms",
        storage="drive", step="power", minimum=0, maximum=5, default=0.2, when=BRAKED,
        rests=STOPS,
        help=Help("How long the full voltage stays on.", "Two to three times the release delay.",
                  "Too short, it falls shut again."),
    ),
    Parameter(
        key="brake.hold_voltage", label="Hold voltage", symbol="Uh", quantity="voltage", unit="V",
        storage="drive", step="power", minimum=0.5, maximum=400, default=12.0, when=BRAKED,
        rests=STOPS,
        help=Help("Lower voltage that keeps it open.", "Half the pull-in voltage; it keeps the coil cool.",
                  "The bus must suffice to make it."),
    ),
    Parameter(
        key="brake.release_delay", label="Release delay", symbol="tr", quantity="time", unit="ms",
        storage="drive", step="power", minimum=0, maximum=5, default=0.06, when=BRAKED,
        rests=STOPS,
        help=Help("From voltage on until it is open.", "From the brake's sheet.", "Motion before it wears the lining."),
    ),
    Parameter(
        key="brake.engage_delay", label="Engage delay", symbol="te", quantity="time", unit="ms",
        storage="drive", step="power", minimum=0, maximum=5, default=0.04, when=BRAKED,
        rests=STOPS,
        help=Help("From voltage off until it holds.", "From the brake's sheet; longer with a freewheel diode.",
                  "Power off before it lets the load sag."),
    ),
    Parameter(
        key="brake.kind", label="Kind of brake", symbol="", quantity="count", step="power", minimum=0, maximum=1,
        default="clutch", choices=(("clutch", "by friction"), ("pin", "by a locking pin")), when=BRAKED,
        rests=STOPS,
        help=Help("How it holds.", "A pin has a play, and comes out only while nothing presses on it.",
                  "A pin entered as friction: the drive takes it for open though it jams."),
    ),
    Parameter(
        key="brake.free_turn", label="Turn that shows it to be out", symbol="φf", quantity="angle", unit="°",
        storage="drive", step="power", minimum=0, maximum=90, default=0.0, when=PINNED, rests=STOPS,
        help=Help("Turn of the motor, after which a pin is taken for out.", "More than the pin's play; 0 takes 3°.",
                  "Less than its play: the drive takes a pin in its hole for one that is out."),
    ),
    Parameter(
        key="brake.free_torque", label="Torque that frees it", symbol="Mf", quantity="torque", unit="N·m",
        storage="drive", step="power", minimum=0, maximum=1e5, default=1.0, when=PINNED, rests=STOPS,
        help=Help("Torque to and fro, at the motor, about what carries the load.", "Enough to turn the free axis.",
                  "Too little leaves the load on the pin."),
    ),
    Parameter(
        key="brake.operation", label="Brake the drive operates", symbol="", quantity="count", storage="drive",
        step="power", minimum=0, maximum=2, default="0",
        choices=(("0", "none"), ("1", "by the drive"), ("2", "by the controller, at the drive's signal")),
        help=Help("Whether enabling opens a brake, and closing it is waited for.", "Follows from the holding brake.",
                  "Left at none, a fitted brake stays closed and the motor works against it."),
    ),
    Parameter(
        key="power.braking_reaction", label="Where the bus rises too high", symbol="", quantity="count",
        storage="drive", step="power", minimum=0, maximum=2, default="0",
        choices=(("0", "stretch the ramp"), ("1", "fault"), ("2", "cut current and coast")),
        rests=STOPS,
        help=Help("What the drive does when braking gives back more than capacitors and resistor take.",
                  "Stretching is gentle, but the stop takes longer and farther; a hanging load should not coast.",
                  "Without a resistor a stretched stop runs past its travel: leave room, or fit one."),
    ),
    Parameter(
        key="power.undervoltage", label="Undervoltage threshold", symbol="Umin", quantity="voltage", unit="V",
        storage="drive", step="power", minimum=5, maximum=1000, default=200.0,
        help=Help("Bus voltage below which the drive does not enable.", "About 70 % of the nominal bus.",
                  "Left at the 325 V default on a 48 V bus, nothing ever enables."),
    ),
)

LIMITS = (
    Parameter(
        key="limit.velocity", label="Velocity limit", symbol="vmax", quantity="axis_velocity", unit="mm/s",
        storage="drive", step="limits", minimum=1e-4, maximum=1e5, default=10.0, required=True, cia402="607Fh",
        help=Help("Nothing is commanded faster; 20 % above it the drive stops the axis.",
                  "10 to 20 % above the fastest move.", "Too close to the move, overshoot trips it."),
    ),
    Parameter(
        key="limit.acceleration", label="Acceleration", symbol="amax", quantity="axis_acceleration", unit="m/s²",
        storage="drive", step="limits", minimum=1e-4, maximum=1e7, default=100.0, required=True, cia402="6083h",
        help=Help("Ramps of moves and of the jog.", "What the torque allows with a third in reserve.",
                  "Above the motor's torque the current saturates and the error grows."),
    ),
    Parameter(
        key="limit.quick_stop", label="Quick-stop deceleration", symbol="aqs", quantity="axis_acceleration",
        unit="m/s²", storage="drive", step="limits", minimum=1e-4, maximum=1e7, default=500.0, required=True,
        cia402="6085h",
        help=Help("Ramp of STOP and of a lost connection.", "As steep as mechanics and bus stand.",
                  "Gentler than the normal ramp it is no quick stop."),
    ),
    Parameter(
        key="limit.jerk", label="Jerk", symbol="jmax", quantity="axis_jerk", unit="m/s³", storage="drive",
        step="limits", minimum=1e-3, maximum=1e10, default=1e4, required=True, cia402="60A4h",
        help=Help("How fast the acceleration may change.", "High for stiff axes; low where something swings.",
                  "Very low values lengthen every move."),
    ),
    Parameter(
        key="limit.current", label="Current limit (peak of sine)", symbol="Imax", quantity="current", unit="A",
        storage="drive", step="limits", minimum=0.01, maximum=5000, default=1.0, cia402="6073h",
        help=Help("Torque-making current is held below this.", "Smaller of motor peak and drive peak.",
                  "An rms value typed here gives away 30 % of the torque."),
    ),
    Parameter(
        key="limit.travel_min", label="Travel, lower end", symbol="x−", quantity="axis_position", unit="mm",
        storage="drive", step="limits", minimum=-1e7, maximum=1e7, default=-1e6, required=True, cia402="607Dh",
        help=Help("No move goes below; the drive stops the axis there.", "A little inside the end stop.",
                  "Counted from where the drive was powered up until the axis is homed."),
    ),
    Parameter(
        key="limit.travel_max", label="Travel, upper end", symbol="x+", quantity="axis_position", unit="mm",
        storage="drive", step="limits", minimum=-1e7, maximum=1e7, default=1e6, required=True, cia402="607Dh",
        help=Help("No move goes above; the drive stops the axis there.", "A little inside the end stop.",
                  "Counted from where the drive was powered up until the axis is homed."),
    ),
    Parameter(
        key="limit.following_error", label="Following-error window", symbol="ex", quantity="axis_position", unit="mm",
        storage="drive", step="limits", minimum=1e-6, maximum=1e6, default=10.0, required=True, cia402="6065h",
        help=Help("Further from its command than this, the axis is stopped.", "Five times what a good move shows.",
                  "Too tight during tuning, everything trips."),
    ),
)
