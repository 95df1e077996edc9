"""What a bench says to the desktop by itself."""

from niente.core.model.errors import RigError
from niente.core.model.hand_cards import CardKind, HandCard
from niente.core.model.plan import GuardAction
from niente.core.model.records import BenchFailed, GuardTripped, HandCardShown, NoteAdded, PlanEnded, PlanStarted
from niente.core.model.setting import Setting
from niente.core.serving.desktop_words import DesktopWords
from tests.conftest import larkspur_rig, short_plan


class Bus:
    """Keeps what it is told."""

    def __init__(self) -> None:
        self.said: list[tuple[str, bool]] = []
        self.awake: list[bool] = []

    def notify(self, title: str, text: str, *, urgent: bool = False) -> None:
        self.said.append((text, urgent))

    def keep_awake(self, why: str) -> None:
        self.awake.append(True)

    def let_sleep(self) -> None:
        self.awake.append(False)


def told(*, alone: bool) -> Bus:
    bus = Bus()
    words = DesktopWords(bus, lambda: "Larkspur", lambda: alone)
    plan = short_plan(larkspur_rig().describe(), Setting())
    lost = RigError("It does not answer.", remedy="Look at it.").text
    for record in (
        PlanStarted(plan, 1, 0),
        NoteAdded(None, 0.0, "nothing to say of that"),
        GuardTripped(1, 0.0, GuardAction.STOP, "The cores are too hot."),
        HandCardShown(HandCard(CardKind.SET, "Set by hand.")),
        HandCardShown(None),
        PlanEnded(True, "the plan is done"),
        PlanEnded(False, "stopped by the person at the bench"),
        PlanEnded(False, "It does not answer.", lost),
        BenchFailed("Traceback"),
    ):
        words.hear(record)
    return bus


def test_no_sleep_while_a_plan_runs_whoever_looks_on() -> None:
    assert told(alone=True).awake == told(alone=False).awake == [True, False, False, False, False]


def test_a_word_where_no_window_is_open() -> None:
    assert told(alone=True).said == [
        ("The cores are too hot.", True),
        ("Hands are needed: Set by hand.", True),
        ("The plan is done.", False),
        ("The plan is stopped by the person at the bench.", False),
        ("It does not answer.", True),
        ("A bug of Niente's ended the plan. The rig has its safe setting.", True),
    ]
    assert not told(alone=False).said
