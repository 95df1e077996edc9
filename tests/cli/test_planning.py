"""Questions on the command line: the same plans as in the window, with options, and a dry run before anything is touched."""

import json
from pathlib import Path

import numpy as np
import pytest
from click.testing import CliRunner, Result

from niente.cli.main import commands
from niente.core.analysis.evidence import evidence_in
from niente.core.model.answer_document import answer_schema
from niente.core.model.errors import DocumentError, NienteError, PlanError
from niente.core.model.plan import Confirmation, PickRuns, Plan, Search, SearchMethod, Step, plan_schema, read_plan
from niente.core.model.question import question_schema
from niente.core.model.setting import Setting
from niente.core.planning.own_templates import keep
from niente.core.planning.templates import TEMPLATES, first_question, plan_for
from tests.conftest import larkspur_rig
from tests.core.planning.plans import card_of
from tests.grids import grid_question


def told(*words: str) -> Result:
    return CliRunner().invoke(commands, ["plan", *words])


def plan_from(*words: str) -> Plan:
    result = told(*words)
    assert result.exit_code == 0, result.output
    return read_plan(result.stdout)


def steps(plan: Plan, stage: str) -> list[Step]:
    return [step for step in plan.steps if step.stage == stage]


@pytest.mark.parametrize("name", [kind.name for kind in TEMPLATES])
def test_a_question_gives_the_plan_that_the_window_makes(name: str) -> None:
    rig = "wren" if name == "real-time" else "larkspur"
    card = card_of(rig)
    assert plan_from(name, "--rig", rig) == plan_for(card, first_question(card, name))


def test_axes_are_lists_spans_and_ratios() -> None:
    words = ("--axis", "sustained_power_w=60..100/20", "--axis", "fan_duty.case=20..100/x1.38", "--hold", "fan_duty.cooler=55")
    plan = plan_from("free", "--rig", "larkspur", *words)
    found = {(step.setting.sustained_power_w, step.setting.fan_duty["case"]) for step in plan.steps}
    assert {watts for watts, _ in found} == {60.0, 80.0, 100.0}
    assert {duty for _, duty in found} == {20.0, 28.0, 38.0, 53.0, 73.0, 100.0}
    assert {step.setting.fan_duty["cooler"] for step in plan.steps} == {55.0}


def case_rpm(duty: float) -> float:
    """How fast Larkspur's case fans turn at a fixed duty."""
    rig = larkspur_rig()
    rig.apply(Setting(fan_duty={"case": duty}))
    frames = [rig.frame(5.0) for _ in range(30)]
    rig.close()
    assert frames[-1] is not None
    return float(frames[-1].values[rig.describe().index("fan_speed_rpm.case")])


def test_a_fan_curve_is_held_throughout_and_followed(tmp_path: Path) -> None:
    words = ("--power", "100", "--minutes", "12", "--loads", "vector", "--hold", "fan_curve.case=40:25,65:50,85:100")
    plan = plan_from("free", "--rig", "larkspur", *words, "--fixed", "fan_duty.cooler=60")
    assert {step.setting.fan_curve["case"].points for step in plan.steps} == {((40.0, 25.0), (65.0, 50.0), (85.0, 100.0))}
    file, book = tmp_path / "plan.json", tmp_path / "curve.niente"
    file.write_text(told("free", "--rig", "larkspur", *words, "--fixed", "fan_duty.cooler=60").stdout)
    run = CliRunner().invoke(commands, ["run", str(file), "--rig", "larkspur", "--book", str(book)], standalone_mode=False)
    assert run.exception is None or run.exit_code == 0, run.output
    evidence = evidence_in(book)
    assert evidence is not None
    duty = float(np.interp(evidence.runs[-1].core_c, (40.0, 65.0, 85.0), (25.0, 50.0, 100.0)))
    turned = [case_rpm(one) for one in (duty - 4.0, duty + 4.0)]
    assert turned[0] < evidence.runs[-1].fan_rpm["case"] < turned[1]  # as fast as at the duty that the curve gives there


@pytest.mark.parametrize(
    ("curve", "said"),
    [
        ("fan_curve.case=65:50,40:25", "do not rise"),
        ("fan_curve.attic=40:25,65:50", "no fan group 'attic'"),
        ("fan_curve.case=40:25,65:150", "outside 0 to 100"),
    ],
)
def test_a_curve_that_cannot_be_followed_is_refused(curve: str, said: str) -> None:
    result = told("free", "--rig", "larkspur", "--hold", curve)
    assert isinstance(result.exception, PlanError), result.output
    assert said in str(result.exception)
    assert told("free", "--rig", "larkspur", "--hold", "fan_curve.case=warm").exit_code == 2


def test_options_change_the_question() -> None:
    plan = plan_from(
        "undervolt-ladder", "--rig", "larkspur", "--axis", "core_offset_mv=-60..0/20", "--search", "weakest_first",
        "--passes", "2", "--margin", "15", "--fine", "10", "--survive", "vector", "--quiet-under", "dome", "--minutes", "15",
        "--budget", "9", "--quiet-hours", "22-7", "--quiet-dba", "28", "--anew",
    )  # fmt: skip
    (search,) = (entry for entry in plan.entries if isinstance(entry, Search))
    assert (search.method, search.passes, search.margin, search.fine) == (SearchMethod.WEAKEST_FIRST, 2, 15.0, 10.0)
    assert len(search.controls) == 12
    assert search.loads == ("vector", "dome")
    assert search.exposure.min_s == 900.0
    assert plan.budget_s == 9 * 3600.0
    assert (plan.quiet.from_h, plan.quiet.to_h, plan.quiet.max_dba) == (22.0, 7.0, 28.0)  # type: ignore[union-attr]
    assert plan.since
    cold = plan_from("free", "--rig", "larkspur", "--order", "cold", "--rest", "5", "--repeats", "2", "--known-to", "2")
    assert {(step.exposure.idle_s, step.exposure.known_to_k) for step in cold.steps} == {(300.0, 2.0)}
    assert len(cold.steps) == 24
    equal = plan_from("variants", "--rig", "larkspur", "--variants", "filter in,front off", "--fan-school", "noise")
    assert [step.variant for step in equal.steps if step.level_dba] == ["filter in", "front off", "front off", "filter in"]
    fixed = plan_from("quiet-point", "--rig", "larkspur", "--offset", "-40", "--approach", "grid")
    assert not any(isinstance(entry, Search) for entry in fixed.entries)
    assert {step.setting.voltage_offset_mv for step in steps(fixed, "capacity")} == {-40.0}
    assert isinstance(fixed.entries[-1], Confirmation)


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (("free", "--rig", "larkspur", "--power", "160..60/10"), "runs backwards"),
        (("free", "--rig", "larkspur", "--power", "60..160/0.5"), "finer than the rig's 1"),
        (("free", "--rig", "larkspur", "--axis", "warp=1,2"), "no control 'warp'"),
        (("free", "--rig", "larkspur", "--hold", "warp=1"), "no control 'warp'"),
        (("free", "--rig", "larkspur", "--loads", "juggling"), "no load 'juggling'"),
        (("variants", "--rig", "larkspur", "--variants", "filter in,garden"), "no variant 'garden'"),
        (("cap-sweep", "--rig", "tests.contract.outside:Doorbell"), "no temperature cap to set"),
    ],
)
def test_what_cannot_be_asked_is_refused_in_a_sentence(words: tuple[str, ...], said: str) -> None:
    result = told(*words)
    assert isinstance(result.exception, NienteError), result.output
    assert said in str(result.exception).replace("\u00a0", " ")
    assert isinstance(result.exception, PlanError)


@pytest.mark.parametrize(
    "words", [("--quiet-hours", "late"), ("--hold", "fan_duty.case=much"), ("--power", "60--160"), ("--order", "up")]
)
def test_wrong_words_are_told_with_what_is_wanted(words: tuple[str, str]) -> None:
    result = told("free", "--rig", "larkspur", *words)
    assert result.exit_code == 2
    assert "wanted" in result.output or "is not one of" in result.output


def test_ten_thousand_runs_say_their_hours_and_a_short_budget_what_fits() -> None:
    result = told("free", "--rig", "larkspur", "--power", "60..160/1", "--fans", "0..99/1")
    assert "10100 runs take" in result.stderr
    assert len(read_plan(result.stdout).entries) == 10_100
    short = told("quiet-point", "--rig", "larkspur", "--budget", "1.2")
    assert "more than its budget" in short.stderr
    assert "instead: Fan sweep" in short.stderr


def test_a_dry_run_says_hours_hands_and_guards(tmp_path: Path, sweep: tuple[Path, object]) -> None:
    file = tmp_path / "plan.json"
    file.write_bytes(plan_for(card_of("larkspur"), first_question(card_of("larkspur"), "variants")).to_json())
    result = told("check", str(file), "--rig", "larkspur", "--json")
    said = json.loads(result.stdout)
    assert said["hands"] == [2, 4]
    assert said["wrong"] == []
    assert said["runs"] == 4
    assert "Hands are needed 2 times, first before run 2" in told("check", str(file), "--rig", "larkspur").stdout
    quiet = plan_for(card_of("larkspur"), grid_question(card_of("larkspur")))
    file.write_bytes(quiet.to_json())
    with_book = json.loads(told("check", str(file), "--rig", "larkspur", "--book", str(sweep[0]), "--json").stdout)
    assert with_book["runs_closed"] == with_book["runs"] > 40  # the book answers it all
    assert with_book["left_s"] == 0.0
    broken = json.loads(file.read_text())
    broken["entries"][0]["load"] = "juggling"
    file.write_text(json.dumps(broken))
    refused = told("check", str(file), "--rig", "larkspur")
    assert "no load 'juggling'" in refused.stdout
    assert isinstance(refused.exception, PlanError)
    missing = told("check", str(tmp_path / "none.json"), "--rig", "larkspur")
    assert isinstance(missing.exception, DocumentError)


def test_a_kept_question_becomes_a_plan(tmp_path: Path) -> None:
    card = card_of("heron")
    file = keep(tmp_path, "Heron by night", first_question(card, "clock-voltage"))
    assert plan_from("from", str(file), "--rig", "heron") == plan_for(card, first_question(card, "clock-voltage"))
    other = told("from", str(file), "--rig", "larkspur")
    assert "does not have: the axis fixed_clock_mhz" in other.stderr
    file.write_text("{}")
    assert isinstance(told("from", str(file), "--rig", "heron").exception, DocumentError)


def test_schemas_are_printed() -> None:
    assert told("schema").stdout_bytes == plan_schema()
    assert told("schema", "question").stdout_bytes == question_schema()
    assert told("schema", "answer").stdout_bytes == answer_schema()
    assert answer_schema() == (Path(__file__).parents[2] / "docs" / "reference" / "answer.schema.json").read_bytes()


def test_hands_of_a_simulated_machine_are_taken_as_done(tmp_path: Path) -> None:
    from niente.cli.running import run_in_terminal
    from niente.core.acquisition.opening import open_bench
    from tests.conftest import larkspur_rig
    from tests.core.planning.plans import read, short
    from tests.here import serve_here

    plan = short(plan_from("variants", "--rig", "larkspur"))
    book = tmp_path / "b.niente"
    assert run_in_terminal(lambda told: serve_here(lambda hear: open_bench(larkspur_rig(), book, hear), told), plan, book) == 0
    evidence = read(book)
    assert [len(evidence.in_variant(name)) for name in ("filter in", "filter out")] == [2, 2]


def test_hands_that_nobody_has_stop_a_plan(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A driver may ask for hands in the middle; without a terminal nothing is taken as done."""
    import io

    from niente.cli.running import ENDED_EARLY, run_in_terminal
    from niente.core.acquisition.client import Hearer
    from niente.core.acquisition.opening import open_bench
    from niente.core.model.setting import Setting
    from tests.contract.outside import RealDoorbell
    from tests.core.acquisition.test_cautions import plan as ringing
    from tests.here import BenchHere, serve_here

    class ByHand(RealDoorbell):
        def apply(self, setting: Setting) -> str | None:
            super().apply(setting)
            return "turn the bell by hand"

    def with_cautions_read(told: Hearer) -> BenchHere:
        bench = serve_here(lambda hear: open_bench(ByHand(), tmp_path / "b.niente", hear), told)
        bench.read_cautions()
        return bench

    monkeypatch.setattr("sys.stdin", io.StringIO("\n\n\n"))
    code = run_in_terminal(with_cautions_read, ringing(), tmp_path / "b.niente")
    assert code == ENDED_EARLY


def test_nobody_there_to_change_a_real_machine(tmp_path: Path) -> None:
    """Without a terminal to say that hands are done, a plan that needs them is not begun."""
    from tests.core.acquisition.test_cautions import plan as ringing

    plan = ringing()
    step = Step(plan.steps[0].setting, "ring", plan.steps[0].exposure, variant="another")
    file = tmp_path / "plan.json"
    file.write_bytes(Plan(plan.format, plan.rig, "variants", (step,), plan.guards).to_json())
    words = [
        "run",
        str(file),
        "--rig",
        "tests.contract.outside:RealDoorbell",
        "--book",
        str(tmp_path / "b.niente"),
        "--cautions-read",
    ]
    result = CliRunner().invoke(commands, words)
    assert isinstance(result.exception, PlanError)
    assert "nobody is there" in str(result.exception)


def test_a_quiet_point_is_looked_for_as_runs_tell() -> None:
    """The approach stands in the plan: fewer runs are listed, and two entries follow from what was measured."""
    plan = plan_from("quiet-point", "--rig", "larkspur")
    assert plan == plan_from("quiet-point", "--rig", "larkspur", "--approach", "adaptive")
    grid = plan_from("quiet-point", "--rig", "larkspur", "--approach", "grid")
    assert [isinstance(entry, PickRuns) for entry in plan.entries].count(True) == 2
    assert not any(isinstance(entry, Confirmation) for entry in plan.entries)
    assert 2 * len(steps(plan, "capacity")) < len(steps(grid, "capacity"))
    points = plan_from("quiet-point", "--rig", "larkspur", "--axis", "sustained_power_w=90,120")
    assert not any(isinstance(entry, PickRuns) for entry in points.entries)  # who gives points wants them run
    assert {step.setting.sustained_power_w for step in steps(points, "capacity")} == {90.0, 120.0}
    both = ("--axis", "sustained_power_w=90,120", "--approach", "adaptive")
    assert any(isinstance(entry, PickRuns) for entry in plan_from("quiet-point", "--rig", "larkspur", *both).entries)
    heard = plan_from("quiet-point", "--rig", "larkspur", "--axis", "fan_duty.case=20,30,40")
    assert any(isinstance(entry, PickRuns) for entry in heard.entries)
