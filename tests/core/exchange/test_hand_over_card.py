"""The hand-over card: its document, and the page that it is printed as, read back by general-purpose libraries."""

import io
import re
from html.parser import HTMLParser
from pathlib import Path

import msgspec
import numpy as np
import pytest
from pypdf import PdfReader

from niente.core.analysis.evidence import Evidence, evidence_in
from niente.core.analysis.models import fit_models
from niente.core.answers.card_check import setting_of_card
from niente.core.answers.hand_over import entered_words, entry_step, hand_over_card
from niente.core.exchange.card_page import card_page, hand_over_text
from niente.core.exchange.html_page import page_as_html
from niente.core.exchange.pdf_page import page_as_pdf
from niente.core.exchange.printed import Grid, Heading, Listing, Paragraph, PrintedPage
from niente.core.model.errors import DocumentError, NotEnoughError
from niente.core.model.fan_curve import FanCurve
from niente.core.model.hand_over_card import CurveRow, HandOverCard, hand_over_schema, read_card
from niente.core.model.kept_point import KeptPoint
from niente.core.model.limits import Limits
from niente.core.model.project import Project
from niente.core.model.rig_card import SetBy
from niente.core.model.setting import Setting
from niente.core.selection.answer import Answer, work_out
from niente.core.selection.pick import choose
from niente.core.storage.reader import BookReader
from tests.core.planning.plans import card_of

MADE_AT = "2026-11-30T12:00:00+00:00"


@pytest.fixture(scope="module")
def findings(sweep: tuple[Path, Project]) -> Answer:
    return work_out(sweep[0], Limits())


@pytest.fixture(scope="module")
def card(sweep: tuple[Path, Project], findings: Answer) -> HandOverCard:
    return hand_over_card(sweep[0], findings, MADE_AT, "0.1.0")


@pytest.fixture(scope="module")
def page(card: HandOverCard) -> PrintedPage:
    return card_page(card)


def texts(page: PrintedPage) -> list[str]:
    """Everything that stands on a page."""
    found = [page.lead, page.title, page.foot]
    for block in page.blocks:
        match block:
            case Heading() | Paragraph():
                found.append(block.text)
            case Listing():
                found += block.items
            case Grid():
                found += [block.caption, *block.heads, *(cell for row in block.rows for cell in row)]
    return found


def squeezed(text: str) -> str:
    """Text without what line breaks and columns do to it."""
    return re.sub(r"\s+", "", text)


def test_every_control_that_differs_from_stock_is_entered_and_taken_back(card: HandOverCard, findings: Answer) -> None:
    assert findings.choice is not None
    assert findings.evidence is not None
    stock, pick = findings.evidence.card.stock, findings.choice.pick.setting
    entered, back = stock, pick
    for step in card.steps:
        entered = entered.replaced(step.control, step.value)
    for step in card.back:
        back = back.replaced(step.control, step.value)
    assert entered == pick
    assert back == stock
    assert [step.control for step in card.back] == [step.control for step in card.steps]  # all are set by software here


def test_what_needs_the_machine_off_comes_first_and_goes_back_last() -> None:
    """A mobile workstation's power limit stands in its firmware, its fans are set by software."""
    rig = card_of("plover")
    setting = Setting(sustained_power_w=22.0, fan_duty={"cooler": 40.0}).over(rig.stock)
    named = {control.name: control for control in rig.controls}
    assert named["sustained_power_w"].set_by == SetBy.FIRMWARE
    words = entry_step(named["sustained_power_w"], 22.0, rig.stock.sustained_power_w).words
    assert words == "Sustained power limit 22\u00a0W in the firmware (stock 30\u00a0W)"
    assert setting.sustained_power_w == 22.0
    offset = entry_step(named["voltage_offset_mv"], -35.0, 0.0)
    assert "\u221235\u00a0mV by software (stock 0\u00a0mV)" in offset.words
    assert "+15\u00a0mV" in entry_step(named["voltage_offset_mv"], 15.0, 0.0).words


def test_the_check_reads_what_the_run_read_in_its_tenth_minute(
    card: HandOverCard, findings: Answer, sweep: tuple[Path, Project]
) -> None:
    """Worked out anew from the samples: means over 540 to 600 s."""
    assert card.check is not None
    assert card.check.minutes == 10.0
    power = next(figure for figure in card.check.figures if figure.name == "package_power_w")
    (run_id,) = power.runs
    evidence = findings.evidence
    assert evidence is not None
    book = BookReader(sweep[0])
    record = next(one for one in book.runs() if one.id == run_id)
    time_s, frames = book.frames(record, ["package_power_w", "noise_dba"])
    book.close()
    at = time_s - time_s[0]
    last = (at > 540.0) & (at <= 600.0)
    assert power.value.value == pytest.approx(float(np.nanmean(frames[last, 0])), abs=0.05)
    assert power.value.half_width == pytest.approx(0.5 + 0.02 * (power.value.value or 0.0), rel=1e-6)
    names = {figure.name for figure in card.check.figures}
    assert {"core_rise_k", "package_power_w", "effective_clock_mhz", "noise_dba", "fan_speed_rpm.case"} <= names
    rise = next(figure for figure in card.check.figures if figure.name == "core_rise_k").value.value
    assert rise is not None
    assert findings.choice is not None
    assert 0.8 * (findings.choice.pick.core_c - 28.0) < rise < 1.05 * (findings.choice.pick.core_c - 28.0)


def test_a_card_survives_its_json(card: HandOverCard) -> None:
    assert read_card(card.to_json()) == card
    assert (Path(__file__).parents[3] / "docs" / "reference" / "hand-over-card.schema.json").read_bytes() == hand_over_schema()


@pytest.mark.parametrize(
    ("change", "said"),
    [
        (lambda text: text.replace(b'"niente-card/1"', b'"niente-card/9"'), "niente-card/9"),
        (lambda text: text.replace(b'"steps": [', b'"steps": [5, '), r"steps\[0\]"),
        (lambda text: text[: len(text) // 2], "not a hand-over card"),
        (lambda text: b"[]", "not a hand-over card"),
        (lambda text: b"\xff\xfe\x00", "not a hand-over card"),
    ],
)
def test_what_is_no_card_is_refused_with_its_place(card: HandOverCard, change, said: str) -> None:  # type: ignore[no-untyped-def]
    with pytest.raises(DocumentError, match=said):
        read_card(change(card.to_json()))


def test_the_pdf_holds_every_word_and_value(page: PrintedPage) -> None:
    """Read back by pypdf; lines break where there is no more room."""
    made = page_as_pdf(page)
    reader = PdfReader(io.BytesIO(made))
    text = squeezed(" ".join(sheet.extract_text() for sheet in reader.pages))
    missing = [one for one in texts(page) if squeezed(one) not in text]
    assert not [one for one in missing if len(one) < 40], missing  # long ones may be broken by the foot of a sheet
    assert len(missing) <= 2
    assert reader.metadata is not None
    assert page.title in (reader.metadata.title or "")
    fonts = set(re.findall(rb"/BaseFont /([A-Za-z0-9+-]+)", made))
    assert fonts
    assert all(b"B612" in name for name in fonts)
    assert page_as_pdf(page) == made  # the same page is the same file


def test_a_long_page_takes_more_sheets(page: PrintedPage) -> None:
    long = msgspec.structs.replace(page, blocks=page.blocks * 6)
    assert len(PdfReader(io.BytesIO(page_as_pdf(long))).pages) > len(PdfReader(io.BytesIO(page_as_pdf(page))).pages)


class _Outline(HTMLParser):
    """What stands in an HTML file: tags with their attributes, and its text."""

    def __init__(self) -> None:
        super().__init__()
        self.tags: list[tuple[str, dict[str, str | None]]] = []
        self.text: list[str] = []

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.tags.append((tag, dict(attrs)))

    def handle_data(self, data: str) -> None:
        self.text.append(data)


def outline_of(html: str) -> _Outline:
    outline = _Outline()
    outline.feed(html)
    return outline


def test_the_html_says_the_same_without_a_script_and_without_loading_anything(page: PrintedPage) -> None:
    html = page_as_html(page)
    outline = outline_of(html)
    text = squeezed("".join(outline.text))
    assert all(squeezed(one) in text for one in texts(page))
    names = [tag for tag, _ in outline.tags]
    assert "script" not in names
    assert "link" not in names
    assert not re.search(r"https?:|url\(|src=", html)
    assert names.count("h1") == 1
    assert outline.tags[0] == ("html", {"lang": "en"})
    heads = [attributes.get("scope") for tag, attributes in outline.tags if tag == "th"]
    assert heads
    assert set(heads) == {"col", "row"}
    assert names.count("caption") == names.count("table") > 2


def test_words_of_a_person_stay_words(page: PrintedPage) -> None:
    """A machine may be called anything; what looks like markup is text in both."""
    evil = msgspec.structs.replace(page, title="<script>alert(1)</script> & **bold** {{ page }}")
    outline = outline_of(page_as_html(evil))
    assert "script" not in [tag for tag, _ in outline.tags]
    assert evil.title in "".join(outline.text)
    text = squeezed(PdfReader(io.BytesIO(page_as_pdf(evil))).pages[0].extract_text())
    assert squeezed(evil.title) in text


def test_the_page_names_cautions_and_the_way_back(card: HandOverCard, page: PrintedPage) -> None:
    heads = [block.text for block in page.blocks if isinstance(block, Heading)]
    assert heads.index("Enter, in this order") < heads.index("A check of ten minutes") < heads.index("The way back")
    assert heads[-1] == "Cautions"
    said = " ".join(card.cautions).lower()
    for word in ("makers", "unplugged", "backup", "corrupts", "licensed"):
        assert word in said
    assert hand_over_text(card).startswith("Hand-over card: Larkspur, filter in")


def test_without_a_pick_there_is_no_card(sweep: tuple[Path, Project], findings: Answer) -> None:
    with pytest.raises(NotEnoughError, match="no pick to hand over"):
        hand_over_card(sweep[0], msgspec.structs.replace(findings, choice=None), MADE_AT, "0.1.0")


def test_without_a_run_of_ten_minutes_there_is_no_check(sweep: tuple[Path, Project], findings: Answer) -> None:
    """A pick that was not run yet: the rest of the card stands, and says that it is a proposal."""
    evidence = evidence_in(sweep[0])
    assert isinstance(evidence, Evidence)
    few = msgspec.structs.replace(
        evidence, runs=tuple(run for run in evidence.runs if run.seconds < 1200.0 or run.load != "vector")
    )

    models = fit_models(few)
    choice = choose(models, Limits())
    other = msgspec.structs.replace(findings, models=models, choice=choice, evidence=few)
    card = hand_over_card(sweep[0], other, MADE_AT, "0.1.0")
    assert choice.pick.clean_s < 1200.0
    assert card.standing == "proposed"
    there = [run for run in few.runs if run.setting == choice.pick.setting and run.load == "vector"]
    assert (card.check is None) == all(run.seconds < 600.0 for run in there)
    heads = [block.text for block in card_page(card).blocks if isinstance(block, Heading)]
    assert ("A check of ten minutes" in heads) == (card.check is not None)
    assert card.steps


def test_fans_on_a_curve_stand_on_the_card_as_they_are_entered(sweep: tuple[Path, Project], findings: Answer) -> None:
    """A kept point with a curve: no duty of that group is entered, and check, page, JSON and script have the curve."""
    assert findings.choice is not None
    curve = FanCurve("core_temperature_c", ((73.0, 20.0), (81.0, 29.0), (87.0, 100.0)), 3.0, 0.5, 0.2, smoothing_s=15.0)
    setting = findings.choice.pick.setting.on_curve("case", curve)
    point = KeptPoint("Night", setting, Limits(), card_of("larkspur").variant)
    card = hand_over_card(sweep[0], findings, MADE_AT, "0.1.0", point)
    words = curve.text
    plain = "73 °C 20 %, 81 °C 29 %, 87 °C 100 %; up 0.5, down 0.2 %/s, hysteresis 3 K, averaged over 15 s"
    assert words.replace("\u00a0", " ") == plain
    assert not any(step.control == "fan_duty.case" for step in card.steps)
    assert any(step.control == "fan_duty.case" for step in card.back)
    assert "case fans on their curve" in card.sentence.replace("\u00a0", " ")
    assert "case" not in {fan.group for fan in card.fans}
    assert words in texts(card_page(card))
    entered = entered_words(card_of("larkspur"), setting)
    assert entered[-1] == f"Fan curve, case: {words}"
    assert not any(one.startswith("Fan duty, case") for one in entered)
    assert any("full speed where the curve's sensor is lost" in caution for caution in card.cautions)
    assert read_card(card.to_json()) == card
    assert setting_of_card(card, card_of("larkspur")).fan_curve == {"case": curve}
    pdf = "".join(one.extract_text() for one in PdfReader(io.BytesIO(page_as_pdf(card_page(card)))).pages)
    assert "87 °C 100 %" in " ".join(pdf.split())
    with pytest.raises(DocumentError, match="cannot follow the card's curve"):
        setting_of_card(msgspec.structs.replace(card, curves=(CurveRow("attic", curve, words),)), card_of("larkspur"))


def test_fans_that_stock_has_on_a_curve_are_taken_off_it() -> None:
    """A machine that was found with its case fans on a curve, as an emergency fan is: here Larkspur with such a stock."""
    curve = FanCurve("core_temperature_c", ((88.0, 30.0), (95.0, 80.0)), off_below_c=88.0)
    rig = card_of("larkspur")
    rig = msgspec.structs.replace(rig, stock=rig.stock.on_curve("case", curve))
    setting = Setting(fan_duty={"case": rig.stock.fan_duty["case"]}).over(rig.stock)
    (entered,) = entered_words(rig, setting)
    assert entered.startswith("Fan duty, case")
    assert entered.endswith("(stock: on its curve)")
