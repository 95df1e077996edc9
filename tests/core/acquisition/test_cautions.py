"""Before the first run on a real machine the cautions are read, once a book, and the book says so."""

from pathlib import Path

import msgspec
import pytest

from niente.core.acquisition.opening import open_bench
from niente.core.model.cautions import READ, cautions_for
from niente.core.model.errors import CautionsError
from niente.core.model.limits import Limits
from niente.core.model.plan import PLAN_FORMAT, Exposure, Guard, GuardAction, Plan, Step
from niente.core.model.rig_card import RigCard
from niente.core.model.setting import Setting
from niente.core.storage.reader import BookReader
from tests.conftest import Watcher
from tests.contract.outside import CARD, Doorbell, RealDoorbell


def plan() -> Plan:
    guard = Guard("core_temperature_c", 90.0, 70.0, 3.0, GuardAction.STOP, "too hot")
    step = Step(Setting(sustained_power_w=10.0), "ring", Exposure(5.0, 5.0), "test", "a test")
    return Plan(PLAN_FORMAT, CARD.name, "test", (step,), (guard,))


def test_nothing_starts_before_they_are_read(tmp_path: Path, watcher: Watcher) -> None:
    book = tmp_path / "real.niente"
    bench = open_bench(RealDoorbell(), book, watcher.hear)
    with pytest.raises(CautionsError) as refused:
        bench.start(plan(), Limits())
    assert "unplugged" in str(refused.value)
    assert "90" in str(refused.value)  # the maker's own limit
    assert "Nothing was started" in str(refused.value)
    assert not bench.busy
    bench.read_cautions()
    bench.start(plan(), Limits())
    assert watcher.end().complete
    bench.close()
    reader = BookReader(book)
    (said,) = [item for item in reader.events() if item.kind == READ]
    reader.close()
    assert said.body == list(cautions_for(RealDoorbell().describe()))


def test_once_a_book_is_enough_until_the_limits_change(tmp_path: Path, watcher: Watcher) -> None:
    book = tmp_path / "real.niente"
    bench = open_bench(RealDoorbell(), book, watcher.hear)
    bench.read_cautions()
    bench.close()
    again = open_bench(RealDoorbell(), book, watcher.hear)
    assert again.cautions_read
    again.close()

    class Hotter(RealDoorbell):
        def describe(self) -> RigCard:
            card = super().describe()
            return msgspec.structs.replace(card, limits=msgspec.structs.replace(card.limits, core_temperature_c=85.0))

    other = open_bench(Hotter(), book, watcher.hear)
    assert not other.cautions_read  # they name another limit now
    other.close()


def test_a_stand_in_cannot_be_harmed(tmp_path: Path, watcher: Watcher) -> None:
    bench = open_bench(Doorbell(), tmp_path / "simulated.niente", watcher.hear)
    bench.start(plan(), Limits())
    assert watcher.end().complete
    bench.close()


def test_voltage_is_only_cautioned_where_it_can_be_set(card: RigCard) -> None:
    assert any("corrupts files" in text for text in cautions_for(card))
    assert not any("corrupts files" in text for text in cautions_for(CARD))
    for one in (card, CARD):
        words = " ".join(cautions_for(one))
        assert "maker" in words
        assert "licensed" in words
