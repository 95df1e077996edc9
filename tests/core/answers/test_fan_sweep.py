"""The fan sweep: where fans start and stall, and where they hum, held against the stand-in's truth; and pumps that go on."""

import re
from pathlib import Path

import msgspec
import pytest
from benchmarks.answers_truth import answer_in

from niente.core.model.answer_document import AnswerDocument
from niente.core.model.plan import Until
from niente.core.model.question import Axis, Span
from niente.core.model.rig_card import SetBy
from niente.core.planning.progress import RunStatus, plan_rows
from niente.core.planning.questions.fans import fan_entries
from niente.core.planning.templates import plan_for
from niente.core.rigs.registry import open_rig
from niente.core.rigs.simulated.machine import Fan
from niente.core.rigs.simulated.machine_files import shipped_file
from tests.core.planning.plans import choose_question, run

CLEAR_DB = 1.4
"""A hump of this and more is heard by anyone who sweeps slowly."""


def first_fans(rig: str) -> dict[str, Fan]:
    """The fan whose speed is read of each group, as the machine's file has it."""
    found: dict[str, Fan] = {}
    for fan in shipped_file(rig).machine.fans.values():
        found.setdefault(fan.group, fan)
    return found


def swept(rig: str, book: Path, **changed: object) -> AnswerDocument:
    card, question = choose_question(rig, "fan-sweep", **changed)
    watcher, _ = run(plan_for(card, question), open_rig(rig, seed=1), book)
    assert watcher.end().complete
    return answer_in(book, question)


def hums(answer: AnswerDocument) -> list[tuple[str, float, float]]:
    """The groups and speeds that the answer names."""
    words = " ".join(one.words for one in answer.remarks if one.head == "Where it hums").replace("\u00a0rpm", " rpm")
    pattern = re.compile(r"(\w+) between ([\d\u00a0]+) rpm and ([\d\u00a0]+) rpm")
    return [
        (group, float(low.replace("\u00a0", "")), float(high.replace("\u00a0", "")))
        for group, low, high in pattern.findall(words)
    ]


@pytest.mark.parametrize("rig", ["larkspur", "wren", "cormorant"])
def test_start_and_stall_lie_where_the_fans_have_them(rig: str, tmp_path: Path) -> None:
    answer = swept(rig, tmp_path / "b.niente")
    fans = first_fans(rig)
    groups = {figure.name.partition(".")[0] for figure in answer.figures if figure.name.endswith("starts_at")}
    assert len(groups) == len([group for group in fans if group])
    for group in groups:
        starts, stalls = (answer.figure(f"{group}.{name}").value for name in ("starts_at", "stalls_at"))
        assert starts.low is not None and starts.high is not None  # noqa: PT018
        assert stalls.low is not None and stalls.high is not None  # noqa: PT018
        assert starts.low < fans[group].start_duty <= starts.high
        assert stalls.low < fans[group].stall_duty <= stalls.high
        assert stalls.high < starts.high  # a fan that turns goes on where one that stands does not start


@pytest.mark.parametrize("rig", ["larkspur", "sandpiper", "cormorant", "heron", "plover"])
def test_resonances_are_those_of_the_fans(rig: str, tmp_path: Path) -> None:
    _, question = choose_question(rig, "fan-sweep")
    axes = tuple(Axis(axis.control, span=Span(20.0, 100.0, 4.0)) for axis in question.axes)
    answer = swept(rig, tmp_path / "b.niente", axes=axes, stall=False)
    found, fans = hums(answer), first_fans(rig)
    for group, low, high in found:  # none is made up
        assert any(low - hump.width_rpm <= hump.rpm <= high + hump.width_rpm for hump in fans[group].humps)
    clear = [(group, hump) for group, fan in fans.items() for hump in fan.humps if hump.db >= CLEAR_DB]
    assert clear
    for group, hump in clear:  # none is missed
        assert any(name == group and low <= hump.rpm <= high for name, low, high in found), (group, hump.rpm)


def test_with_a_pump_that_goes_on_each_group_is_still_heard_alone(tmp_path: Path) -> None:
    answer = swept("cormorant", tmp_path / "b.niente", stall=False)
    assert {figure.name.partition(".")[0] for figure in answer.figures if "noise" in figure.name} == {"radiator", "case"}
    assert "The radiator fans are the loudest" in answer.sentence
    assert "pump at 35" in answer.picture.ruled[0].words  # type: ignore[union-attr]


def test_a_ladder_of_fans_ends_where_they_stand_and_its_way_up_where_they_turn(tmp_path: Path) -> None:
    """What was heard at a duty is no answer to it: whether a fan turns depends on what was before."""
    card, question = choose_question("wren", "fan-sweep", axes=(Axis("fan_duty.case", (20.0, 60.0)),))
    plan = plan_for(card, question)
    _, evidence = run(plan, open_rig("wren", seed=1), tmp_path / "b.niente")
    rows = plan_rows(plan, evidence.card, evidence)
    down, up = ([row for row in rows if row.step.until == until] for until in (Until.STANDS, Until.TURNS))
    for ladder, turned in ((down, False), (up, True)):
        made = [row for row in ladder if row.run is not None]
        assert [row.status for row in ladder[: len(made)]] == [RunStatus.DONE] * len(made)
        assert {row.status for row in ladder[len(made) :]} == {RunStatus.LEFT_OUT}
        assert [row.run.fan_rpm["case"] > 30.0 for row in made] == [not turned] * (len(made) - 1) + [turned]  # type: ignore[union-attr]
        assert len({row.run.run_id for row in made}) == len(made)  # type: ignore[union-attr]
    assert {row.run.run_id for row in down if row.run}.isdisjoint(row.run.run_id for row in up if row.run)
    noise = [row for row in rows if row.step.stage == "noise"]
    assert all(row.run is not None and row.run.seconds > 25.0 for row in noise)


def test_no_ladder_where_hands_or_firmware_set_the_fans_or_no_speed_is_read() -> None:
    card, question = choose_question("wren", "fan-sweep")
    by_hand = tuple(msgspec.structs.replace(one, set_by=SetBy.HANDS) if "fan" in one.name else one for one in card.controls)
    blind = tuple(one for one in card.channels if not one.name.startswith("fan_speed"))
    for other in (msgspec.structs.replace(card, controls=by_hand), msgspec.structs.replace(card, channels=blind)):
        assert not [entry for entry in fan_entries(other, question) if getattr(entry, "watches", "")]
    without = msgspec.structs.replace(question, stall=False)
    assert not [row for row in plan_rows(plan_for(card, without), card) if row.step.watches]
