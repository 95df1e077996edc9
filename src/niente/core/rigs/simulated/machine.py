"""A simulated machine as data: what its JSON file holds, section by section."""

from typing import Annotated, Any

import msgspec

from niente.core.model.names import control_name
from niente.core.model.rig_card import Control, LoadKind, MakersLimits, Part, Variant
from niente.core.model.setting import Setting

FORMAT, STREAMS_FORMAT = "niente-machine/2", "niente-machine/1"
"""With places of the air, and with all of the case's air in one."""
ROOM = "room"
"""The name of the room as a node of the heat network; the cores are ``core``, their number behind a dot."""

Positive = Annotated[float, msgspec.Meta(gt=0)]
NotNegative = Annotated[float, msgspec.Meta(ge=0)]
Share = Annotated[float, msgspec.Meta(ge=0, le=1)]
Percent = Annotated[float, msgspec.Meta(ge=0, le=100)]
Celsius = Annotated[float, msgspec.Meta(ge=-40, le=150)]
Metres = Annotated[float, msgspec.Meta(ge=-10, le=10)]
AirFlow = Annotated[float, msgspec.Meta(ge=0.1, le=10_000)]
"""In m3/h: from a leak to a rack; outside of that a network of air cannot be told from one without that way."""
Resistance = Annotated[float, msgspec.Meta(ge=0, le=10_000)]
"""In Pa at the reference flow."""
Hour = Annotated[float, msgspec.Meta(ge=0, le=24)]


class CoreHeat(msgspec.Struct, frozen=True):
    """How the cores stand in the network: ``capacity`` J/K each, ``conductance`` W/K each to the node ``onto``,
    ``neighbour`` W/K between two side by side, in ``rows`` rows. ``spread`` is how much worse those in the middle stand.
    """

    capacity: Positive
    conductance: Positive
    neighbour: NotNegative
    spread: Share
    onto: str = "spreader"
    rows: Annotated[int, msgspec.Meta(ge=1, le=8)] = 2


class ThermalLink(msgspec.Struct, frozen=True):
    """Heat between two nodes. ``conductance`` W/K always; ``natural`` W/K at 20 K of difference, growing with its power
    ``exponent`` (free convection); ``pumped`` links go with the coolant's flow.
    """

    between: tuple[str, str]
    conductance: NotNegative = 0.0
    natural: NotNegative = 0.0
    exponent: NotNegative = 0.25
    pumped: bool = False


class Pass(msgspec.Struct, frozen=True):
    """Something that a stream of air passes: the node that warms it and its surface, ``ua`` W/K at the stream's
    reference flow, growing with the power ``exponent`` of the flow.

    A radiator says the coolant's side too: ``coolant`` W/K is its capacity flow with the pump at full speed, ``node``
    where it comes in, ``returns`` where it goes out. ``along`` is the share of the air that meets it along its fins: of what
    comes across them, most blows past.
    """

    node: str
    ua: Positive
    exponent: NotNegative = 0.7
    coolant: NotNegative = 0.0
    returns: str = ""
    along: Annotated[float, msgspec.Meta(gt=0, le=1)] = 1.0


class Stream(msgspec.Struct, frozen=True):
    """Air on its way: from a node, past surfaces, into a node.

    ``stages`` are fans in series, each a set of fan names in parallel; ``impedance_pa`` what each piece of the way takes
    at the reference flow (pressure goes with its square). ``chimney_m`` is the height over which warm air lifts itself;
    ``helped_by`` the shares of other streams that go this way too; ``recirculation`` how much of its own air comes back.
    """

    source: str
    sink: str
    reference_m3h: Positive
    passes: tuple[Pass, ...] = ()
    stages: tuple[tuple[str, ...], ...] = ()
    impedance_pa: dict[str, NotNegative] = {}
    chimney_m: NotNegative = 0.0
    helped_by: dict[str, Share] = {}
    recirculation: Annotated[float, msgspec.Meta(ge=0, lt=1)] = 0.0


class AirPlace(msgspec.Struct, frozen=True):
    """A place of the air, one node of the heat network: what people call it, how high its middle stands, and how far back it
    lies in the case (0 front, 1 back)."""

    title: str
    height_m: Metres
    depth: Share = 0.5


class AirWay(msgspec.Struct, frozen=True):
    """A way that air can take from one place (or the room) to another, or back.

    ``fans`` stand in it one behind the other and blow from ``from`` to ``to``; ``takes_pa`` is what each piece of it (filter,
    mesh, panel, fins) takes at the reference flow, in pressure, nearly with the square of the flow. ``passes`` are the surfaces
    that it meets. ``height_m`` is where it stands, ``rises_m`` how far it leads up past what warms it. ``opening`` says what
    people call it, where it leads into the room.
    """

    start: str = msgspec.field(name="from")
    end: str = msgspec.field(name="to")
    reference_m3h: AirFlow
    takes_pa: dict[str, Resistance]
    fans: tuple[str, ...] = ()
    passes: tuple[Pass, ...] = ()
    height_m: Metres = 0.0
    rises_m: Metres = 0.0
    opening: str = ""


class Mixing(msgspec.Struct, frozen=True):
    """Air that two places exchange by eddies, as much one way as the other."""

    between: tuple[str, str]
    m3h: AirFlow


class AirNetwork(msgspec.Struct, frozen=True):
    """The air with places: which heat nodes are places, the ways between them by name, and what mixes."""

    places: dict[str, AirPlace]
    ways: dict[str, AirWay]
    mixing: tuple[Mixing, ...] = ()


class Source(msgspec.Struct, frozen=True):
    """Heat that is not the cores': ``watts`` always, and shares of what package, graphics and supply turn into heat."""

    node: str
    watts: NotNegative = 0.0
    of_package: NotNegative = 0.0
    of_graphics: NotNegative = 0.0
    of_supply: NotNegative = 0.0


class Heat(msgspec.Struct, frozen=True):
    """The heat network: nodes with their capacity in J/K, links, sources, and the air: places with ways between them
    (``air``), or in files of the first format one node that ``streams`` lead past.

    ``readings`` names the channel that a node is read by. The uncore's heat goes into the node the cores stand on.
    """

    cores: CoreHeat
    nodes: dict[str, Positive]
    links: tuple[ThermalLink, ...]
    sources: tuple[Source, ...]
    readings: dict[str, str]
    streams: dict[str, Stream] = {}
    air: AirNetwork | None = None


class SiliconModel(msgspec.Struct, frozen=True):
    """Where results go wrong: the voltage a core needs lies ``margin_mv`` below the stock curve at full activity and clock.

    The margin shrinks by ``margin_mv_per_k`` with temperature; cores differ by ``spread_mv``. ``scale_mv`` is how steeply
    the rate rises. Close to the threshold a core stretches its clock: ``stretch`` is the share of its work it loses with
    no margin left, fading over ``stretch_mv``. ``deadly_mv`` is how deep under it the machine goes down rather than errs.
    """

    margin_mv: float
    spread_mv: NotNegative
    scale_mv: Positive
    margin_mv_per_k: float
    stretch: Share = 0.08
    stretch_mv: Positive = 12.0
    deadly_mv: Positive = 25.0


class Processor(msgspec.Struct, frozen=True):
    """Power and firmware. ``curve_mhz`` and ``curve_v`` are the stock voltage at each clock; cores are fused higher or
    lower by ``curve_spread_mv``.

    Switched capacitance in nF for all cores at activity 1; leakage in W a core at 1 V and 60 °C. ``idle_leak`` is what is
    left of an idle core's leakage. The load line takes ``load_line_mohm`` for all the current. ``all_core_mhz`` is the highest
    clock that is fused for all cores together, whatever the cap allows (0: none); no channel and no control tells of it.
    """

    cores: Annotated[int, msgspec.Meta(ge=1, le=256)]
    curve_mhz: tuple[Positive, ...]
    curve_v: tuple[Positive, ...]
    switched_nf: Positive
    leakage_w: NotNegative
    leakage_per_v: NotNegative
    leakage_per_k: NotNegative
    uncore_w: Positive
    load_line_mohm: NotNegative
    average_s: Positive
    idle_mhz: Positive
    silicon: SiliconModel
    curve_spread_mv: NotNegative = 0.0
    idle_leak: Share = 0.5
    burst_ratio: Positive = 1.2
    all_core_mhz: NotNegative = 0.0


class Supply(msgspec.Struct, frozen=True):
    """The supply: what it is made for, and its efficiency over the share of that (pairs, rising)."""

    rated_w: Positive
    efficiency: tuple[tuple[NotNegative, Annotated[float, msgspec.Meta(gt=0, le=1)]], ...]


class Hump(msgspec.Struct, frozen=True):
    """A resonance: where a fan's speed meets it, its half width, and what it adds at its top."""

    rpm: Positive
    width_rpm: Positive
    db: NotNegative


class Fan(msgspec.Struct, frozen=True):
    """One kind of fan in one place, ``count`` of them side by side, on the header of its ``group``; with no group it is wired
    straight to the supply and turns whatever the board does.

    Speed: at full duty, where it starts and stalls (% duty), inertia. Air: pressure at no flow and free flow, each at full
    speed, and how its curve bends between (1 a parabola, 0 a straight line). Sound of one at 1 m at full speed:
    broadband level and its law in dB a decade, humps, the blade-pass tone in dB and its blades; ``place_db`` is what its
    place adds (pressed to a panel, blowing into another fan). ``speed_exponent`` bends speed over duty (1: in proportion).
    """

    group: str
    full_rpm: Positive
    start_duty: Percent
    stall_duty: Percent
    inertia_s: Positive
    pressure_pa: Positive
    flow_m3h: Positive
    level_db: float
    per_decade: Positive
    count: Annotated[int, msgspec.Meta(ge=1, le=16)] = 1
    bend: Share = 0.6
    humps: tuple[Hump, ...] = ()
    blades: Annotated[int, msgspec.Meta(ge=2, le=30)] = 7
    tone_db: float = -20.0
    place_db: float = 0.0
    supply_v: Positive = 12.0
    speed_exponent: Positive = 1.0


class Pump(msgspec.Struct, frozen=True):
    """A coolant pump on the header of its own ``group``: speed at full duty, least duty, its level at full speed."""

    group: str
    full_rpm: Positive
    least_duty: Percent
    level_db: float
    per_decade: Positive = 40.0


class Whine(msgspec.Struct, frozen=True):
    """Coil whine: its level at 100 W of package or graphics power, growing with ``per_decade`` of that power."""

    level_db: float
    per_decade: float = 12.0


class MeterModel(msgspec.Struct, frozen=True):
    """The sound meter: class 1 or 2 (0: none given), where it stands, the distance at which the room's own sound takes over,
    its step, scatter, and the noise of its own below which it hears nothing.
    """

    class_: Annotated[int, msgspec.Meta(ge=0, le=2)] = msgspec.field(name="class", default=2)
    place: str = ""
    distance_m: Positive = 1.0
    room_m: Positive = 2.5
    step_db: Positive = 0.1
    scatter_db: NotNegative = 0.3
    floor_dba: float = 17.0


class EarModel(msgspec.Struct, frozen=True):
    """Where the machine is heard from: the place, its distance, and the background there by day and night."""

    place: str
    distance_m: Positive
    day_dba: NotNegative
    night_dba: NotNegative


class RoomStep(msgspec.Struct, frozen=True):
    """A step of the room: from a rig time on, so many kelvin."""

    at_s: NotNegative
    kelvin: float


class RoomModel(msgspec.Struct, frozen=True):
    """The room: mean temperature, heating cycle and slow drift (amplitudes in K, periods in s), steps, its background in
    dBA by day and night, the hours of the day, humidity and altitude. The rig's clock starts at ``starts_at_h``.
    """

    mean_c: Celsius
    cycle_k: NotNegative
    cycle_s: Positive
    drift_k: NotNegative
    drift_s: Positive
    day_dba: NotNegative
    night_dba: NotNegative
    day_from_h: Hour = 7.0
    day_to_h: Hour = 21.0
    starts_at_h: Hour = 21.0
    wander_db: NotNegative = 0.0
    steps: tuple[RoomStep, ...] = ()
    humidity_percent: Percent = 45.0
    altitude_m: Annotated[float, msgspec.Meta(ge=-500, le=6000)] = 0.0


class SensorsModel(msgspec.Struct, frozen=True):
    """How readings differ from the truth: step, noise (standard deviations), lag, gains and offsets by channel."""

    temperature_step_k: Positive
    temperature_noise_k: NotNegative
    temperature_offset_k: NotNegative
    power_noise_w: NotNegative
    clock_noise_mhz: NotNegative
    speed_noise_rpm: NotNegative
    temperature_lag_s: NotNegative = 0.0
    gains: dict[str, Positive] = {}
    offsets: dict[str, float] = {}


class MachineLoad(msgspec.Struct, frozen=True):
    """A load: how much of the cores it switches, its throughput at 1 GHz and how that scales with the clock.

    ``active_cores`` are at work (0: all). It comes in periods of ``period_s``, busy for ``busy`` of each and at
    ``between`` of its activity in the rest; with ``burst_s`` it is over after that long, and comes back after ``every_s``.
    ``deadlines`` turn what goes wrong into drop-outs; its throughput is how many of what it ``counts`` (voices, streams) it
    keeps up with, and with a control ``load_size.`` of its name it runs at a size of so many. ``waits`` is the share of its
    time at 1 GHz that no clock shortens: it waits for memory.
    """

    name: str
    title: str
    kind: LoadKind
    activity: NotNegative
    per_ghz: NotNegative
    clock_exponent: Positive
    checks_results: bool
    unrest: NotNegative
    active_cores: Annotated[int, msgspec.Meta(ge=0, le=256)] = 0
    graphics_w: NotNegative = 0.0
    period_s: NotNegative = 0.0
    busy: Share = 1.0
    between: Share = 0.3
    burst_s: NotNegative = 0.0
    every_s: NotNegative = 0.0
    deadlines: bool = False
    waits: Share = 0.0
    counts: str = ""

    @property
    def is_idle(self) -> bool:
        """Whether this is rest rather than work."""
        return self.kind == LoadKind.IDLE


class Build(Variant, frozen=True, kw_only=True):
    """A variant as the file holds it: what it changes about the machine, as a JSON merge patch (RFC 7396)."""

    patch: dict[str, Any] = msgspec.field(default_factory=dict)


class FanController(msgspec.Struct, frozen=True):
    """What the board does to every fan curve: duties in steps of ``step_percent`` (0: none), its own hysteresis beside the
    curve's, a start of standing fans at no less than ``start_boost_percent``, and sensors of its own, which lag and are off."""

    step_percent: NotNegative = 0.0
    hysteresis_k: NotNegative = 0.0
    start_boost_percent: Annotated[float, msgspec.Meta(ge=0, le=100)] = 0.0
    lag_s: NotNegative = 0.0
    offset_k: Annotated[float, msgspec.Meta(ge=-20, le=20)] = 0.0


class Machine(msgspec.Struct, frozen=True):
    """One simulated machine, whole. ``kind`` is its class, which new machines are made from. ``variant`` is the state that
    the file describes; ``variants`` are the others.

    A graphics card other than the file's draws ``graphics_factor`` times what the loads ask of that.
    After a crash it is away for ``restart_s`` seconds (0: it is back at once), and then has its stock setting.
    A control named ``core_offset_mv.*`` or ``point_offset_mv.*`` stands for one a core, or a point of the curve.
    """

    format: str
    name: str
    title: str
    summary: str
    variant: str
    processor: Processor
    heat: Heat
    fans: dict[str, Fan]
    supply: Supply
    room: RoomModel
    meter: MeterModel
    sensors: SensorsModel
    loads: tuple[MachineLoad, ...]
    controls: tuple[Control, ...]
    limits: MakersLimits
    stock: Setting
    safe: Setting
    parts: tuple[Part, ...] = ()
    variants: tuple[Build, ...] = ()
    curve_sources: tuple[str, ...] = ()
    pump: Pump | None = None
    whine: Whine | None = None
    panel_db: float = 0.0
    kind: str = ""
    listener: EarModel | None = None
    restart_s: NotNegative = 0.0
    graphics_factor: Positive = 1.0
    controller: FanController = FanController()

    def groups(self) -> tuple[str, ...]:
        """Return the fan groups, the pump's among them, in the order of the controls that set them."""
        named = [control_name(control.name) for control in self.controls]
        set_by_duty = [part for name, part in named if name == "fan_duty"]
        own = [fan.group for fan in self.fans.values() if fan.group] + ([self.pump.group] if self.pump is not None else [])
        return tuple(dict.fromkeys([group for group in set_by_duty if group in own] + own))
