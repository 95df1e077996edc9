"""The view of the heat path: ladder, section of the machine and what other states change, by mouse, keys and in words."""

from collections.abc import Callable

import msgspec
import pytest
from PySide6.QtCore import QPoint, QPointF, QRectF, Qt
from PySide6.QtTest import QTest
from pytestqt.qtbot import QtBot

from niente.core.analysis.air_state import PlaceRise, Returned
from niente.core.model.case_air import CasePlace
from niente.core.science.heat.rungs import RungKind
from niente.desktop.app.window import NAMES, Window
from niente.desktop.pages.rig.free_places import FreePlaces
from niente.desktop.pages.rig.page import PATH, RigPage
from niente.desktop.pages.rig.path_words import air_sentence, share_words
from niente.desktop.pages.rig.section import rise_words
from niente.desktop.widgets.blocks import spoken
from niente.desktop.widgets.table import CellSign
from tests.desktop.layout import painted


@pytest.fixture
def page(swept_window: Window) -> RigPage:
    return shown(swept_window)


def shown(window: Window) -> RigPage:
    window.go_to(NAMES.index("Rig"))
    page = window.page(RigPage)
    assert isinstance(page, RigPage)
    page.views.show_view(PATH)
    QTest.qWait(20)
    return page


def test_the_title_is_the_whole_rise_with_its_joint_interval(page: RigPage) -> None:
    models, ladder = page.session.answer.models, page.path_view.ladder._ladder
    assert models is not None
    assert ladder is not None
    scene = page.reading.scene(page.session.card, page.session.project, models)  # type: ignore[arg-type]
    rise, half_width = scene.here.rise(models.heat)
    assert page.title.text().startswith(f"{rise:.1f} ± {half_width:.1f} K at {scene.here.power_w:.0f} W")
    assert sum(rung.kelvin for rung in ladder.rungs) == pytest.approx(rise)
    assert ladder.half_width_k == pytest.approx(half_width)
    kinds = [rung.kind for rung in ladder.rungs]
    assert kinds == [RungKind.CORE, RungKind.GROUP, RungKind.OWN, RungKind.RETURN]


def test_the_section_says_every_place_and_how_it_is_known(page: RigPage) -> None:
    said = page.path_view.section.accessibleDescription()
    for title in ("Front", "Processor", "Top and back"):
        assert f"{title}: +" in said
    assert said.count("measured") == 3
    assert page.path_view.sentence.text().startswith("Front: ")
    assert page.path_view.sentence.text().endswith(" of its air comes back.")
    assert "it warms every place behind by" in page.path_view.follows.text()


def test_a_place_is_chosen_by_mouse_by_keys_and_by_its_rung(page: RigPage, qtbot: QtBot) -> None:
    section, ladder = page.path_view.section, page.path_view.ladder
    card = page.session.card
    assert card is not None
    assert card.air is not None
    front = card.air.place("front")
    assert front is not None
    qtbot.mousePress(section, Qt.MouseButton.LeftButton, pos=section.spot(front).toPoint())
    words = spoken(page.margin())
    assert "Place selected" in words
    assert "Front" in words
    assert "A sensor reads it" in words
    assert "Mains off and unplugged" in words
    QTest.keyClick(section, Qt.Key.Key_Right)
    assert "Around the cards" in spoken(page.margin())
    assert "No sensor reads it" in spoken(page.margin())
    own = [rung.at for rung in ladder._ladder.rungs].index("processor")  # type: ignore[union-attr]
    at = QPoint(60, round(60 + ladder._rung_px(ladder._ladder) * (own + 0.3)))  # type: ignore[arg-type]
    qtbot.mousePress(ladder, Qt.MouseButton.LeftButton, pos=at)
    assert "Processor" in spoken(page.margin())


def test_another_source_has_an_axis_of_its_own(page: RigPage, qtbot: QtBot) -> None:
    ladder = page.path_view.ladder
    drawn = ladder._ladder
    assert drawn is not None
    assert drawn.other is not None
    qtbot.keyClick(ladder, Qt.Key.Key_Up)
    qtbot.keyClick(ladder, Qt.Key.Key_Up)
    assert ladder._ladder is not None
    assert ladder._ladder.other is not None
    assert ladder._ladder.other.watts == drawn.other.watts + 10.0
    assert f"graphics {drawn.other.watts + 10.0:.0f} W" in page.title.text()
    assert any(rung.kind == RungKind.SOURCE for rung in ladder._ladder.rungs)
    assert ladder._ladder.power == drawn.power  # the package's watts stay
    cut = ladder._cut(ladder._ladder)
    x = ladder._ladder.other.span(cut, ladder.width()).px(40.0)
    qtbot.mousePress(ladder, Qt.MouseButton.LeftButton, pos=QPoint(round(x), 16))
    assert ladder._ladder.other.watts == pytest.approx(40.0, abs=1.0)
    for _ in range(30):
        qtbot.keyClick(ladder, Qt.Key.Key_Down)
    assert ladder._ladder.other.watts == 0.0
    assert not any(rung.kind == RungKind.SOURCE for rung in ladder._ladder.rungs)


def test_what_no_mixed_load_showed_is_said_at_its_rung(page: RigPage, qtbot: QtBot) -> None:
    """The sweep ran no load that heats the graphics much: what it adds is not told."""
    page._move_source(60.0)
    ladder = page.path_view.ladder._ladder
    assert ladder is not None
    source = next(index for index, rung in enumerate(ladder.rungs) if rung.kind == RungKind.SOURCE)
    told = ladder.rungs[source].half_width_k < ladder.rungs[source].kelvin
    assert (ladder.sub[source] == "not told by the runs") == (not told)


def test_other_states_stand_open_until_they_are_measured(page: RigPage) -> None:
    view = page.path_view
    assert page.session.card is not None
    names = [row[1] for row in view.model.rows]
    assert names == [one.name for one in page.session.card.variants if one.name != page.session.card.variant]
    assert all(cells[0].sign == CellSign.EXPECTED for cells in view.model.cells)
    assert {row[-1] for row in view.model.rows} == {"not measured"}
    assert view.changes_aside.text().startswith("0 of ")


def test_before_anything_is_measured_the_view_is_typical_and_open(open_window: Callable[..., Window]) -> None:
    page = shown(open_window())
    assert "typical, nothing measured yet" in page.title.text()
    assert page.path_view.sentence.text() == "Where the air goes is not known yet."
    assert "nothing measured yet" in page.path_view.section.accessibleDescription()
    assert "Nothing has been measured yet." in spoken(page.margin())
    assert "door open" in [row[1] for row in page.path_view.model.rows]


def test_a_rig_that_does_not_say_where_its_air_goes_has_the_ladder_alone(page: RigPage) -> None:
    card, models = page.session.card, page.session.answer.models
    assert card is not None
    assert models is not None
    assert page.session.project is not None
    bare = msgspec.structs.replace(card, air=None)
    scene = page.reading.scene(card, page.session.project, models)
    page.path_view.show_scene(scene, bare, "")
    assert page.path_view.section.isHidden()
    assert "does not say where its air goes" in page.path_view.sentence.text()
    page.path_view.show_scene(scene, card, "")
    assert not page.path_view.section.isHidden()


def test_names_of_places_are_painted_and_cover_no_other(page: RigPage, swept_window: Window) -> None:
    texts = [text for _, text in painted(swept_window)]
    for title in ("Front", "Processor", "Top and back", "Around the cards", "Over the case"):
        assert title in texts


@pytest.mark.parametrize(
    ("share", "words"),
    [(0.02, "hardly any"), (0.1, "a tenth"), (0.33, "a third"), (0.5, "half"), (0.66, "two thirds"), (0.95, "nearly all")],
)
def test_shares_are_said_in_words(share: float, words: str) -> None:
    assert share_words(share) == words


def test_a_share_that_is_not_told_is_not_said(page: RigPage) -> None:
    models, card = page.session.answer.models, page.session.card
    assert models is not None
    assert card is not None
    assert page.session.project is not None
    state = page.reading.scene(card, page.session.project, models).air
    assert state is not None
    wide = Returned(CasePlace("front", "Front", 0, 0), 0.5, 0.45)
    sentence, follows = air_sentence(card.air, msgspec.structs.replace(state, returned=(wide,)))
    assert sentence == "Whether air comes back cannot be told."
    assert "Around the cards" in follows


def test_a_place_that_is_not_told_is_open() -> None:
    place = CasePlace("a", "A", 0.0, 0.0)
    assert rise_words(PlaceRise(place, 5.0, 4.0, measured=False)) == ("open", "")
    assert rise_words(PlaceRise(place, 5.0, 1.0, measured=False)) == ("+5.0\u00a0K", "±1.0")
    assert rise_words(None) == ("open", "")


def test_names_find_room_beside_each_other() -> None:
    free, whole = FreePlaces(), QRectF(0, 0, 200, 100)
    taken = [free.beside(QPointF(100, 50), 60, 12, 10, whole) for _ in range(3)]
    assert taken[0] == QRectF(110, 44, 60, 12)
    areas = [area for area in taken if area is not None]
    assert len(areas) == 3
    assert not any(one.intersects(other) for one in areas for other in areas if one is not other)
    assert all(whole.contains(area) for area in areas)
    assert free.beside(QPointF(100, 50), 300, 20, 10, whole) is None
