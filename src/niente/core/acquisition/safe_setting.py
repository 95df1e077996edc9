"""The safe setting: put back, put back again where that was in vain, and seen to be in force by the samples that follow."""

import logging
import math
from collections.abc import Callable

from niente.core.model.errors import RigError
from niente.core.model.frame import Frame
from niente.core.model.quantities import quantity_of
from niente.core.model.records import MadeSafe, Record, SettingStays
from niente.core.model.rig_card import LoadKind, RigCard
from niente.core.model.setting import Setting
from niente.core.rigs.checked_rig import BY_HAND, CheckedRig

WORK, POWER = "throughput_per_s", "package_power_w"
STILL_WORKS, STILL_DRAWS = 0.5, 0.85
"""A machine that does more than so much of the work it did under its load, or draws more than so much of the power, is still
under it."""
PATIENCE_S, PATIENCE_SAMPLES = 5.0, 10
"""It may take so long, in rig seconds and in samples, until that is seen."""
TRIES = 3
LOG = logging.getLogger(__name__)


class CardReads:
    """Where a card has work and power, and of which kind its loads are: looked up once a card, not at every sample."""

    def __init__(self, card: RigCard) -> None:
        self.card = card
        self.kinds = {load.name: load.kind for load in card.loads}
        self._work, self._power = card.index(WORK), card.index(POWER)

    def both(self, frame: Frame) -> tuple[float, float]:
        """Return work and power at a sample; NaN for what is not read."""
        values = frame.values
        work = math.nan if self._work is None else float(values[self._work])
        return work, math.nan if self._power is None else float(values[self._power])


class SafeSetting:
    """Makes one rig safe. Used by the thread that samples it."""

    def __init__(self, rig: CheckedRig, publish: Callable[[Record], None]) -> None:
        self.problem = ""
        """Why the machine is not known to be safe, in words; empty where it is."""
        self.stays: Setting | None = None
        """What the machine keeps in place of the safe setting, until that is put back."""
        self._rig = rig
        self._publish = publish
        self._load: tuple[float, float] | None = None
        """Work and power under the load that runs."""
        self._expected: tuple[float, float] | None = None
        """Work and power that have to fall, since the load was ended."""
        self._since_s, self._samples, self._tries = math.nan, 0, 0
        self._reads: CardReads | None = None
        self._still = False
        """Whether the last sample showed the load still on."""

    def _reads_of(self, card: RigCard) -> CardReads:
        if self._reads is None or self._reads.card is not card:
            self._reads = CardReads(card)
        return self._reads

    def load_begins(self) -> None:
        """A load is started: what comes now is wanted."""
        self._load = self._expected = None

    def saw(self, frame: Frame, card: RigCard, load: str) -> None:
        """Take note of what a sample under a load looks like."""
        reads = self._reads_of(card)
        kind = reads.kinds.get(load, LoadKind.IDLE)
        if kind == LoadKind.IDLE:
            return
        work, power = reads.both(frame)
        if kind != LoadKind.HEAVY:
            power = math.nan  # a light load draws little more than none
        before = self._load or (work, power)
        self._load = (_drawn_to(before[0], work), _drawn_to(before[1], power))

    def restore(self) -> None:
        """End the load and put the safe setting back; what goes wrong with that is told once, in words."""
        problem = self._rig.make_safe()
        self.let_stay(None)
        self._expected = self._expected or self._load
        if self._expected is not None and not any(one > 0.0 for one in self._expected):
            self._expected = None  # nothing that is read would tell
        self._load = None
        self._since_s, self._samples, self._tries = math.nan, 0, 1
        if problem:
            self._say(f"The machine could not be made safe: {problem}. {BY_HAND}")
        elif self._expected is None:
            self._is_safe()

    def let_stay(self, whole: Setting | None) -> None:
        """Leave what is in force now as it is once the rig is let go of; ``None``: the safe setting comes back as ever, and
        where another was to stay that is told."""
        over, self.stays = whole is None and self.stays is not None, whole
        if over:
            self._tell(SettingStays(None))

    def look(self, frame: Frame, card: RigCard) -> None:
        """See by a sample after the load's end whether it has ended; call again where it has not."""
        expected = self._expected
        if expected is None:
            return
        if math.isnan(self._since_s):
            self._since_s = frame.time_s
        self._samples += 1
        works, draws = self._reads_of(card).both(frame)
        self._still = works > STILL_WORKS * expected[0] or draws > STILL_DRAWS * expected[1]
        if works <= STILL_WORKS * expected[0] or (not works > 0.0 and draws <= STILL_DRAWS * expected[1]):
            self._still, self._expected = False, None
            self._is_safe()
            return
        if self._samples < PATIENCE_SAMPLES or frame.time_s - self._since_s < PATIENCE_S:
            return
        self._since_s, self._samples = math.nan, 0
        if not self._still:
            self._expected = None  # what would tell is not read any more
        elif self._tries < TRIES:
            LOG.error("the load is still on; the machine is made safe again")
            self._tries += 1
            self._end_by_both_ways()
        elif not self.problem:
            reading = quantity_of(WORK).with_unit(works) if works > 0.0 else quantity_of(POWER).with_unit(draws)
            self._say(f"The load was ended {TRIES} times, and the machine is still at work ({reading}). {BY_HAND}")

    @property
    def is_open(self) -> bool:
        """Whether a load was ended that was not seen to have ended yet."""
        return self._expected is not None

    def close(self) -> None:
        """Nothing more is seen of the machine: say so, where its load was still on at the last look."""
        if self._expected is not None and self._still and not self.problem:
            self._say(f"The load was ended, and at the last look the machine was still at work. {BY_HAND}")

    def _end_by_both_ways(self) -> None:
        try:
            self._rig.stop()
        except RigError as error:
            LOG.error("the load could not be ended: %s", error)
        self._rig.make_safe()

    def _say(self, text: str) -> None:
        self.problem = text
        self._tell(MadeSafe(False, text))

    def _is_safe(self) -> None:
        if self.problem:
            self.problem = ""
            self._tell(MadeSafe(True, "The load is off now, and the machine has its safe setting."))

    def _tell(self, record: Record) -> None:
        try:
            self._publish(record)
        except Exception:  # a full disk: what has to be done for the machine comes first
            LOG.exception("what became of the safe setting could not be written")


def _drawn_to(mean: float, reading: float) -> float:
    """Return a mean that follows a reading, over some ten samples; one that is missing changes nothing."""
    if math.isnan(reading):
        return mean
    return reading if math.isnan(mean) else mean + 0.1 * (reading - mean)
