"""The feedback devices as their sheets print them, and what the drive keeps of them."""

from cadrel.core.parameters.devices import DEVICE_KINDS, kinds_with
from cadrel.core.parameters.parameter import Help, Parameter

COUNTED = ("feedback.kind", kinds_with("may_have_index"))
SINCOS = (("feedback.kind", ("sincos",)),)
RESOLVER = (("feedback.kind", ("resolver",)),)
SERIAL = (("feedback.kind", ("serial",)),)
TURNING = ("sheet.kind", ("rotary", "dc", "stepper", "induction"))
STRAIGHT = ("sheet.kind", ("linear", "voice_coil"))
WITH_HALLS = (("feedback.halls", ("1",)), COUNTED)
SECOND = (("second.kind", ("incremental", "sincos", "serial")),)

FEEDBACK = (
    Parameter(
        key="feedback.kind", label="Device on the motor", symbol="", quantity="count", step="feedback", minimum=0,
        maximum=1, default="incremental", required=True,
        choices=tuple((k.key, k.label) for k in DEVICE_KINDS.values()),
        help=Help("What tells the drive where the motor is.", "Read it off the device's type plate.",
                  "A serial device with extra sine and cosine is entered by the signals the drive uses."),
    ),
    Parameter(
        key="feedback.lines", label="Lines per revolution", symbol="N", quantity="count", step="feedback", minimum=1,
        maximum=1e7, default=None, required=True, whole=True, when=(COUNTED, TURNING),
        help=Help("Periods of A, or of the sine, per motor revolution.",
                  "Printed as lines, pulses, periods or ppr; counts are four times that.",
                  "Counts typed for lines: one marked turn then shows four."),
    ),
    Parameter(
        key="feedback.period", label="Signal period of the scale", symbol="p", quantity="scale", unit="µm",
        step="feedback", minimum=1e-8, maximum=0.1, default=None, required=True, when=(COUNTED, STRAIGHT),
        help=Help("Travel over one period of A, or of the sine.", "Four counts fit in; a 1 µm count is a 4 µm period.",
                  "The resolution printed is a quarter of the period."),
    ),
    Parameter(
        key="feedback.interpolation", label="Counts per period", symbol="k", quantity="count", step="feedback",
        minimum=4, maximum=65536, default=1024.0, whole=True, when=SINCOS,
        help=Help("How finely the drive divides one period.", "The drive's figure: often 256 to 4096.",
                  "More than signal noise allows only adds flicker."),
    ),
    Parameter(
        key="feedback.index", label="Index", symbol="Z", quantity="count", step="feedback", storage="drive",
        minimum=0, maximum=1, default="1", choices=(("1", "present"), ("0", "none")), when=(COUNTED,),
        help=Help("One pulse per revolution.", "With it the offset is exact after the first turn of every power-up.",
                  "An index that is wired inverted never comes."),
    ),
    Parameter(
        key="feedback.halls", label="Hall signals", symbol="H", quantity="count", step="feedback", storage="drive",
        minimum=0, maximum=1, default="1", choices=(("1", "three of them"), ("0", "none")), when=(COUNTED,),
        help=Help("Three digital signals that tell the 60° sector at power-up.",
                  "With them the motor starts without moving first.", "States 0 and 7 do not exist: a wire is off."),
    ),
    Parameter(
        key="feedback.hall_spacing", label="Hall spacing", symbol="", quantity="count", step="feedback",
        storage="drive", minimum=60, maximum=120, default="120",
        choices=(("120", "120° electrical"), ("60", "60° electrical")),
        when=(("feedback.kind", kinds_with("may_have_halls")), ("feedback.halls", ("1",))),
        help=Help("Angle between the three Halls.", "120° is usual; 60° shows states 0 and 7 in turn.",
                  "Taken wrongly, two of six states look impossible."),
    ),
    Parameter(
        key="feedback.edge_rate_max", label="Maximum edge rate", symbol="fmax", quantity="frequency", unit="kHz",
        step="feedback", minimum=100, maximum=1e8, default=4e6, when=(("feedback.kind", ("incremental",)),),
        help=Help("Fastest counting the input stands.", "From the drive's or encoder's sheet, the smaller.",
                  "Counted per edge, four times the frequency of A."),
    ),
    Parameter(
        key="feedback.analog_bandwidth", label="Input bandwidth", symbol="fg", quantity="frequency", unit="kHz",
        step="feedback", minimum=100, maximum=1e7, default=200e3, when=SINCOS,
        help=Help("Highest frequency of sine and cosine the input stands.", "From the drive's sheet; often 200 kHz.",
                  "At top speed the periods per second must stay below."),
    ),
    Parameter(
        key="feedback.resolver_pairs", label="Pole pairs of the resolver", symbol="pR", quantity="count",
        step="feedback", minimum=1, maximum=32, default=1.0, whole=True, when=RESOLVER,
        help=Help("Electrical turns of the resolver per mechanical turn, its speeds.",
                  "1 unless the sheet says otherwise.", "Several pole pairs are absolute only within one of them."),
    ),
    Parameter(
        key="feedback.resolver_ratio", label="Transformation ratio", symbol="TR", quantity="plain", step="feedback",
        minimum=0.05, maximum=2, default=0.5, when=RESOLVER,
        help=Help("Output over excitation voltage.", "0.5 is usual.", "Too little signal reads as a broken wire."),
    ),
    Parameter(
        key="feedback.excitation_frequency", label="Excitation frequency", symbol="fe", quantity="frequency",
        unit="kHz", step="feedback", minimum=400, maximum=40e3, default=10e3, when=RESOLVER,
        help=Help("Of the rotor winding.", "Within what resolver and drive both stand.",
                  "Off the resolver's rating its phase shift grows."),
    ),
    Parameter(
        key="feedback.excitation_voltage", label="Excitation", symbol="Ue", quantity="voltage", unit="V",
        step="feedback", minimum=0.5, maximum=40, default=7.0, when=RESOLVER,
        help=Help("Rms of the excitation.", "From the resolver's sheet; 4 to 8 V.", "Peak-to-peak is 2.83 times rms."),
    ),
    Parameter(
        key="feedback.resolver_bits", label="Bits of the conversion", symbol="b", quantity="count", step="feedback",
        minimum=8, maximum=20, default=12.0, whole=True, when=RESOLVER,
        help=Help(
            "Effective bits per resolver turn.", "12 to 14 in servo drives.", "More bits come with less bandwidth."
        ),
    ),
    Parameter(
        key="feedback.resolver_bandwidth", label="Bandwidth of the conversion", symbol="fR", quantity="frequency",
        unit="kHz", step="feedback", storage="drive", minimum=50, maximum=20e3, default=1200.0, when=RESOLVER,
        help=Help("Of the tracking converter.", "Ten times the velocity loop's or more.",
                  "Its lag counts as delay in every loop."),
    ),
    Parameter(
        key="feedback.protocol", label="Protocol", symbol="", quantity="count", step="feedback", minimum=0, maximum=1,
        default="biss_c", choices=(("biss_c", "BiSS-C"), ("ssi", "SSI"), ("word", "other, by its word")), when=SERIAL,
        help=Help("How the word is sent.", "From the type plate.", "SSI has no checksum: line errors go unseen."),
    ),
    Parameter(
        key="feedback.single_turn_bits", label="Single-turn bits", symbol="ST", quantity="count", step="feedback",
        minimum=4, maximum=32, default=None, required=True, whole=True, when=(*SERIAL, TURNING),
        help=Help(
            "Bits within one revolution.", "19 bits are 524 288 counts.", "Printed together with multi-turn bits."
        ),
    ),
    Parameter(
        key="feedback.position_bits", label="Position bits", symbol="n", quantity="count", step="feedback", minimum=8,
        maximum=48, default=32.0, whole=True, when=(*SERIAL, STRAIGHT),
        help=Help("Bits of the absolute position.", "From the word's layout.", "Too few and the scale repeats."),
    ),
    Parameter(
        key="feedback.resolution", label="Length of one count", symbol="q", quantity="scale", unit="nm",
        step="feedback", minimum=1e-11, maximum=1e-2, default=None, required=True, when=(*SERIAL, STRAIGHT),
        help=Help("Travel of the lowest bit.", "50 nm and 1 µm are common.", "Not the accuracy grade."),
    ),
    Parameter(
        key="feedback.multi_turn_bits", label="Multi-turn bits", symbol="MT", quantity="count", step="feedback",
        minimum=0, maximum=32, default=0.0, whole=True, when=(*SERIAL, TURNING),
        help=Help(
            "Bits that count revolutions.", "0 for a single-turn device.", "Some lose them without their battery."
        ),
    ),
    Parameter(
        key="feedback.leading_bits", label="Leading bits to skip", symbol="", quantity="count", step="feedback",
        minimum=0, maximum=32, default=0.0, whole=True, when=SERIAL,
        help=Help("Bits sent before the position.", "From the word's layout.", "One too few doubles the position."),
    ),
    Parameter(
        key="feedback.trailing_bits", label="Trailing bits to skip", symbol="", quantity="count", step="feedback",
        minimum=0, maximum=32, default=0.0, whole=True, when=SERIAL,
        help=Help("Alignment bits after the position, before status.", "From the word's layout.",
                  "They are zeros that look like position."),
    ),
    Parameter(
        key="feedback.error_bit", label="Error bit", symbol="E", quantity="count", step="feedback", minimum=0,
        maximum=1, default="low", choices=(("low", "active low"), ("high", "active high"), ("none", "none")),
        when=SERIAL,
        help=Help("Tells that the position cannot be trusted.", "Active low in BiSS.",
                  "Wrong level: a good device is refused, or a bad one trusted."),
    ),
    Parameter(
        key="feedback.warning_bit", label="Warning bit", symbol="W", quantity="count", step="feedback", minimum=0,
        maximum=1, default="low", choices=(("low", "active low"), ("high", "active high"), ("none", "none")),
        when=SERIAL,
        help=Help("Tells of dirt or a low battery.", "Active low in BiSS.", "Ignored, it becomes the error bit."),
    ),
    Parameter(
        key="feedback.crc", label="Checksum", symbol="CRC", quantity="count", step="feedback", minimum=0, maximum=1,
        default="crc6", choices=(("crc6", "CRC-6, 0x43 inverted"), ("parity", "even parity"), ("none", "none")),
        when=SERIAL,
        help=Help("What guards the word.", "BiSS-C has the CRC; SSI at best parity.", "Without one, noise is motion."),
    ),
    Parameter(
        key="feedback.coding", label="Coding", symbol="", quantity="count", step="feedback", minimum=0, maximum=1,
        default="binary", choices=(("binary", "binary"), ("gray", "Gray")), when=SERIAL,
        help=Help("Of the position bits.", "Old SSI devices use Gray.", "Gray read as binary jumps back and forth."),
    ),
    Parameter(
        key="feedback.clock", label="Clock", symbol="fc", quantity="frequency", unit="MHz", step="feedback",
        minimum=5e4, maximum=2e7, default=2e6, when=SERIAL,
        help=Help(
            "Rate of the bits.", "Long cables want a slow clock.", "Too slow, the word does not fit into the loop."
        ),
    ),
    Parameter(
        key="feedback.latency", label="Latency", symbol="tl", quantity="time", unit="µs", step="feedback", minimum=0,
        maximum=0.01, default=0.0, when=SERIAL,
        help=Help("From sampling to the first bit.", "From the device's sheet.", "It counts as delay in every loop."),
    ),
    Parameter(
        key="feedback.errors_tolerated", label="Errors tolerated in a row", symbol="", quantity="count",
        step="feedback", storage="drive", minimum=0, maximum=10, default=0.0, whole=True, when=SERIAL,
        help=Help("Bad words before the drive stops.", "0: mend the cable, do not ignore it.",
                  "Each tolerated word is a period without position."),
    ),
    Parameter(
        key="feedback.battery", label="Battery", symbol="", quantity="count", step="feedback", minimum=0, maximum=1,
        default="none", choices=(("none", "none"), ("fitted", "fitted")), when=SERIAL,
        help=Help(
            "Keeps the multi-turn count.", "Look at the plug or the drive.", "Empty, the axis must be homed anew."
        ),
    ),
    Parameter(
        key="feedback.direction", label="Counting direction", symbol="", quantity="count", step="feedback",
        storage="drive", minimum=0, maximum=1, default="0", choices=(("0", "as wired"), ("1", "inverted")),
        help=Help(
            "Whether counts are taken negative.", "The wiring check says which one makes a forward vector count up.",
            "Wrong way round, the motor runs away at once."
        ),
    ),
    Parameter(
        key="motor.phase_order", label="Order of the motor phases", symbol="", quantity="count", step="feedback",
        storage="drive", minimum=0, maximum=1, default="0", choices=(("0", "as wired"), ("1", "two exchanged")),
        help=Help(
            "Whether the drive exchanges two motor phases, as if two wires were swapped.",
            "Exchange them if a forward vector turns the shaft the wrong way and the counts are to stay as they are.",
            "It turns the motor's forward round; taken for the counting direction, the axis runs the other way."
        ),
    ),
    Parameter(
        key="feedback.counts", label="Counts per revolution", symbol="4N", quantity="count", storage="drive",
        step="feedback", minimum=4, maximum=5e9, default=4096.0, restart=True, cia402="608Fh",
        help=Help("Counts per motor revolution; of a linear motor per magnetic pitch.", "Follows from the device.",
                  "Lines typed for counts."),
    ),
    Parameter(
        key="feedback.device", label="Device the drive reads", symbol="", quantity="count", storage="drive",
        step="feedback", minimum=0, maximum=4, default="0", restart=True,
        choices=tuple((str(k.code), k.short) for k in sorted(DEVICE_KINDS.values(), key=lambda k: k.code)),
        help=Help("What the drive's feedback input is set to.", "Follows from the device on the motor.",
                  "Another kind than is plugged in: nothing is read."),
    ),
    Parameter(
        key="feedback.periods", label="Signal periods per revolution", symbol="N", quantity="count", storage="drive",
        step="feedback", minimum=0.001, maximum=1e7, default=1.0, restart=True,
        help=Help("Periods of sine and cosine per motor revolution; of a resolver its pole pairs.",
                  "Follows from the device.", "A linear motor's are counted per magnetic pitch."),
    ),
    Parameter(
        key="feedback.word_skip", label="Bits below the position", symbol="", quantity="count", storage="drive",
        step="feedback", minimum=0, maximum=32, default=0.0, whole=True, restart=True,
        help=Help("Bits the drive skips between position and status.", "Follows from the word's layout.",
                  "One too few doubles the position."),
    ),
    Parameter(
        key="feedback.word_length", label="Bits of the word", symbol="", quantity="count", storage="drive",
        step="feedback", minimum=0, maximum=128, default=0.0, whole=True, restart=True,
        help=Help("All bits of one word, checksum and status included.", "Follows from the word's layout.",
                  "Read too short or too long, no checksum fits."),
    ),
    Parameter(
        key="feedback.word_checksum", label="Checksum the drive expects", symbol="", quantity="count", storage="drive",
        step="feedback", minimum=0, maximum=6, default="0", restart=True,
        choices=(("0", "none"), ("1", "even parity"), ("6", "CRC-6, 0x43 inverted")),
        help=Help("What the drive checks every word by.", "Follows from the word's layout.",
                  "Another than the device sends: no word is good."),
    ),
    Parameter(
        key="feedback.word_gray", label="Coding the drive expects", symbol="", quantity="count", storage="drive",
        step="feedback", minimum=0, maximum=1, default="0", restart=True, choices=(("0", "binary"), ("1", "Gray")),
        help=Help("How the drive reads the position bits.", "Follows from the word's layout.",
                  "The other coding jumps back and forth."),
    ),
    Parameter(
        key="feedback.word_error", label="Error bit the drive expects", symbol="", quantity="count", storage="drive",
        step="feedback", minimum=0, maximum=2, default="0", restart=True,
        choices=(("0", "none"), ("1", "active low"), ("2", "active high")),
        help=Help("Below the position; a word that reports an error is not used.", "Follows from the word's layout.",
                  "Wrong level: no word is good, or a bad one is trusted."),
    ),
    Parameter(
        key="feedback.word_warning", label="Warning bit the drive expects", symbol="", quantity="count",
        storage="drive", step="feedback", minimum=0, maximum=2, default="0", restart=True,
        choices=(("0", "none"), ("1", "active low"), ("2", "active high")),
        help=Help("Below the error bit; it stops nothing.", "Follows from the word's layout.",
                  "Left out, every bit above is read one place off."),
    ),
    Parameter(
        key="feedback.word_latency", label="Age of a word", symbol="ta", quantity="time", unit="µs", storage="drive",
        step="feedback", minimum=0, maximum=0.01, default=0.0,
        help=Help("From sampling in the device to arrival in the drive.",
                  "Latency of the sheet and the time of the telegram.", "It counts as delay in every loop."),
    ),
    Parameter(
        key="second.kind", label="Second device, on the load", symbol="", quantity="count", step="feedback",
        minimum=0, maximum=1, default="none",
        choices=(
            ("none", "none"), ("incremental", "incremental"), ("sincos", "sine and cosine"),
            ("serial", "serial, absolute"),
        ),
        help=Help("Measures the load itself.", "For belts, long screws, gears with play.",
                  "Velocity from it makes a springy axis hard to tune."),
    ),
    Parameter(
        key="second.resolution", label="Second device: counts per motor revolution", symbol="N2", quantity="count",
        step="feedback", minimum=1e-3, maximum=1e9, default=None, required=True, when=SECOND,
        help=Help("Counts of the second device while the motor turns once.",
                  "Counts per load unit times load travel per motor turn.", "Counts per its own turn, gear forgotten."),
    ),
    Parameter(
        key="second.direction", label="Second device: direction", symbol="", quantity="count", step="feedback",
        minimum=0, maximum=1, default="0", choices=(("0", "as wired"), ("1", "inverted")), when=SECOND,
        help=Help("Whether it counts with the motor.", "Turn the shaft by hand and watch both.",
                  "Opposed devices in one loop run away."),
    ),
    Parameter(
        key="feedback.velocity_from", label="Velocity from", symbol="", quantity="count", step="feedback", minimum=0,
        maximum=1, default="motor", choices=(("motor", "device on the motor"), ("load", "second device")),
        when=SECOND,
        help=Help("Which device the velocity loop uses.", "Nearly always the motor's.",
                  "The load's brings the spring into the loop."),
    ),
    Parameter(
        key="feedback.position_from", label="Position from", symbol="", quantity="count", step="feedback", minimum=0,
        maximum=1, default="load", choices=(("motor", "device on the motor"), ("load", "second device")), when=SECOND,
        help=Help("Which device the position loop uses.", "The load's, for accuracy at the load.",
                  "Play between both makes it hunt."),
    ),
    Parameter(
        key="feedback.second_counts", label="Counts of the second device per motor revolution", symbol="N2",
        quantity="count", storage="drive", step="feedback", minimum=-1e9, maximum=1e9, default=0.0, restart=True,
        help=Help("What the drive makes of the device on the load; 0: there is none.",
                  "Follows from its entries; negative where it is inverted.",
                  "Another sign than the motor's device: the position loop runs away."),
    ),
    Parameter(
        key="feedback.position_device", label="Device the position loop reads", symbol="", quantity="count",
        storage="drive", step="feedback", minimum=0, maximum=1, default="0", restart=True,
        choices=(("0", "device on the motor"), ("1", "second device")),
        help=Help("Where the position comes from that the loop compares.", "Follows from the choice of loops.",
                  "The load's, with a loop tuned on the motor's: what lies between them is inside the loop."),
    ),
)
