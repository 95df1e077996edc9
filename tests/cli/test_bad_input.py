"""Bad inputs, drawn over every option and argument of every command: each is answered with a sentence and a code."""

import json
import os
import random
import shutil
import sqlite3
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import click
import pytest

from niente.cli.main import commands, main
from niente.core.model.project import Project
from niente.core.model.rig_sheet import sheet_of, sheet_text
from niente.core.planning.own_templates import own_text
from niente.core.planning.templates import first_question, grid_project, plan_for
from niente.core.storage.schema import UPGRADES
from tests.conftest import larkspur_rig
from tests.draws import SEED, draws

INPUTS = draws(1000, 300)
CODES = {0, 2, 3, 4, 6}
"""No bug (1), and nothing that a person stopped (5)."""
NUMBERS = (
    *("nan", "inf", "-inf", "1e999", "-1", "0", "1e308", "-1e308", "1e-320"),
    *("", " ", "seven", "1,5", "0x10", "\u0663", "1_000", "--"),
)
TEXTS = (
    *("", " ", "\x1b[31m", "a" * 5000, "\u00e9" * 300, "../../..", "-", "x=", "=1", "22-99", "a-b", "vector,vector,,"),
    *("no.such.module:factory", "os:system", "json:loads", "{}", "<b>bold</b>", "%s%n", "fan_duty.nowhere=3"),
    *("sustained_power_w=nan", "sustained_power_w=1e999", "sustained_power_w=80..60/0"),
    *("sustained_power_w=60..180/-1", "sustained_power_w=60..180/1e-9"),
)
DEEP = "[" * 100_000 + "]" * 100_000


def leaves(group: click.Group, words: tuple[str, ...] = ()) -> Iterator[tuple[tuple[str, ...], click.Command]]:
    for name, command in group.commands.items():
        if isinstance(command, click.Group):
            yield from leaves(command, (*words, name))
        else:
            yield (*words, name), command


@pytest.fixture(scope="module")
def files(tmp_path_factory: pytest.TempPathFactory) -> list[str]:
    """Files that are none of those that a command wants."""
    folder = tmp_path_factory.mktemp("bad")
    contents = {
        "empty": b"",
        "text.json": b"dear all",
        "deep.json": DEEP.encode(),
        "null.json": b"null",
        "list.json": b"[]",
        "number.json": b"1e999",
        "latin.json": b'{"format": "\xff"}',
        "keys.json": json.dumps({"format": "niente-plan/2", "entries": 7}).encode(),
        "plan.json": json.dumps({"format": "niente-plan/2", "rig": "larkspur", "question": "q", "entries": [], "guards": [],
                                 "since": "yesterday"}).encode(),
        "header.niente": b"SQLite format 3\0" + bytes(200),
        "driver.py": b"def factory(:\n",
    }  # fmt: skip
    for name, content in contents.items():
        (folder / name).write_bytes(content)
    os.mkfifo(folder / "pipe")
    (folder / "folder").mkdir()
    (folder / "large.json").touch()
    os.truncate(folder / "large.json", 200 * 2**20)
    found = [str(one) for one in folder.iterdir()]
    return [
        *found,
        str(folder / "none"),
        "/dev/zero",
        "/dev/null",
        str(folder / ("n" * 300)),
        str(folder / "text.json" / "x"),
        "",
    ]


def values_for(param: click.Parameter, files: list[str]) -> list[str]:
    if isinstance(param.type, click.FloatRange | click.IntRange | click.types.IntParamType | click.types.FloatParamType):
        return list(NUMBERS)
    if param.type.name == "path":
        return files
    return [*TEXTS, *NUMBERS[:4]]


def good(command: click.Command, words: tuple[str, ...], book: str, plan: str) -> dict[str, list[str]]:
    """Words that each required thing of a command may be."""
    found: dict[str, list[str]] = {}
    for param in command.params:
        if param.name == "rig":
            found["rig"] = ["--rig", "larkspur"]
        if param.name == "book":
            found["book"] = [book] if isinstance(param, click.Argument) else ["--book", book]
        if param.name in ("plan_file", "file"):
            found[param.name] = [plan]
    if words == ("rig-sheet",):
        found.pop("book")
    return found


def drawn(files: list[str], book: str, plan: str) -> list[list[str]]:
    draw, every = random.Random(SEED), list(leaves(commands))
    found: list[list[str]] = []
    while len(found) < INPUTS:
        words, command = draw.choice(every)
        params = [param for param in command.params if not (isinstance(param, click.Option) and param.is_flag)]
        if not params:
            continue
        given = good(command, words, book, plan)
        bad = draw.choice(params)
        value = draw.choice(values_for(bad, files))
        given[str(bad.name)] = [value] if isinstance(bad, click.Argument) else [bad.opts[0], value]
        if words == ("run",) and bad.name in ("if_lost", "last_run", "seed", "pace", "variant", "book"):
            given["plan_file"] = [files[0]]  # nothing is started here: that is what a bad plan is for
        found.append([*words, *(word for each in given.values() for word in each)])
    return found


def code_of(words: list[str], monkeypatch: pytest.MonkeyPatch) -> int:
    monkeypatch.setattr(sys, "argv", ["niente-cli", *words])
    with pytest.raises(SystemExit) as left:
        main()
    return int(left.value.code or 0)


def test_every_bad_input_is_answered(
    files: list[str],
    sweep_copy: Path,
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
    capfd: pytest.CaptureFixture[str],
) -> None:
    monkeypatch.chdir(tmp_path)  # a word that is drawn may name a file to be written
    plan = tmp_path / "plan.json"
    assert code_of(["plan", "baseline", "--rig", "larkspur"], monkeypatch) == 0
    plan.write_text(capfd.readouterr().out)
    failed = []
    for words in drawn(files, str(sweep_copy), str(plan)):
        code = code_of(words, monkeypatch)
        said = capfd.readouterr()
        if code not in CODES or "Traceback" in said.out + said.err or (code and not said.err.strip()):
            failed.append((code, [word[:80] for word in words], said.err[-300:]))
    assert not failed, f"seed {SEED}: {len(failed)} of {INPUTS}, such as {failed[:5]}"


@pytest.mark.parametrize(
    "words",
    [
        ["predict", "BOOK", "--room-c", "nan"],
        ["predict", "BOOK", "--altitude-m", "inf"],
        ["choose", "BOOK", "--headroom", "nan"],
        ["choose", "BOOK", "--noise", "-inf"],
        ["choose", "BOOK", "--aim", "loudest"],
        ["answer", "BOOK", "--question", "nonsense"],
        ["answer", "BOOK", "--noise-at", "next door"],
        ["plan", "soak", "--rig", "larkspur", "--minutes", "0"],
        ["plan", "undervolt-ladder", "--rig", "larkspur", "--fine", "-1"],
        ["plan", "undervolt-ladder", "--rig", "larkspur", "--passes", "1000000"],
        ["plan", "soak", "--rig", ""],
        ["run", "", "--rig", "larkspur", "--book", "BOOK"],
    ],
)
def test_what_is_no_value_is_refused_where_it_came_by(
    words: list[str], sweep_copy: Path, monkeypatch: pytest.MonkeyPatch, capfd: pytest.CaptureFixture[str]
) -> None:
    assert code_of([str(sweep_copy) if word == "BOOK" else word for word in words], monkeypatch) == 2
    assert "Invalid value for" in capfd.readouterr().err


def test_a_bug_is_a_sentence_too(
    sweep: tuple[Path, Project], monkeypatch: pytest.MonkeyPatch, capfd: pytest.CaptureFixture[str]
) -> None:
    monkeypatch.setattr("niente.core.storage.reader.BookReader.project", lambda self: 1 / 0)
    assert code_of(["choose", str(sweep[0])], monkeypatch) == 1
    said = capfd.readouterr().err
    assert "This is a bug of Niente's" in said
    assert "Traceback" not in said
    log = Path(said.rpartition(" stands in ")[2].strip().rstrip("."))
    assert "ZeroDivisionError" in log.read_text(encoding="utf-8")


def places(document: object, path: tuple[str | int, ...] = ()) -> Iterator[tuple[str | int, ...]]:
    """Every place of a JSON document."""
    yield path
    if isinstance(document, dict):
        for key, value in document.items():
            yield from places(value, (*path, key))
    if isinstance(document, list):
        for index, value in enumerate(document):
            yield from places(value, (*path, index))


def with_put(document: Any, path: tuple[str | int, ...], value: object) -> Any:
    """A document with something else at one place, or with that place gone."""
    if not path:
        return value
    copied = dict(document) if isinstance(document, dict) else list(document)
    if len(path) == 1 and value is GONE:
        del copied[path[0]]  # type: ignore[arg-type]
    else:
        copied[path[0]] = with_put(copied[path[0]], path[1:], value)  # type: ignore[index]
    return copied


GONE = object()
VALUES: tuple[object, ...] = (
    *(GONE, None, True, 0, -1, 1e308, -1e308, 1e-320, 10**40, 7, "", "x", "é" * 3000, [], {}, [[]], [None], {"": 1}),
    *("nan", "2026-13-45", "<b>x</b>", {"kind": "step"}, [1.5, 1.5], "core_temperature_c", "fan_duty.", "../../x"),
)
FIELDS = draws(400, 150)


def test_every_bad_field_of_a_document_is_answered(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capfd: pytest.CaptureFixture[str]
) -> None:
    """Plans, questions that were kept, and rig sheets: whatever stands at whichever place, by a sentence."""
    card = larkspur_rig().describe()
    project = grid_project(card)
    plan = json.loads(plan_for(card, first_question(card, "undervolt-ladder")).to_json())
    plan["entries"] = plan["entries"][:4]
    kinds = {
        ("plan", "check", "FILE", "--rig", "larkspur"): plan,
        ("plan", "from", "FILE", "--rig", "larkspur"): json.loads(own_text("mine", project.question)),
        ("rig-sheet", "--rig", "larkspur", "--check", "FILE"): json.loads(sheet_text(sheet_of(card))),
    }
    draw, file, failed = random.Random(SEED), tmp_path / "document.json", []
    for _ in range(FIELDS):
        words, document = draw.choice(list(kinds.items()))
        path, value = draw.choice(list(places(document))[1:]), draw.choice(VALUES)
        file.write_text(json.dumps(with_put(document, path, value)))
        code = code_of([str(file) if word == "FILE" else word for word in words], monkeypatch)
        said = capfd.readouterr()
        if code not in CODES or "Traceback" in said.out + said.err:
            failed.append((code, words[:2], path, value, said.err[-200:]))
    assert not failed, f"seed {SEED}: {len(failed)} of {FIELDS}, such as {failed[:5]}"


def of_first_version(book: Path) -> None:
    """Make a book as the first Niente did: without what later versions added."""
    old = sqlite3.connect(book.with_name("old.niente"), isolation_level=None)
    old.executescript(f"{UPGRADES[0]} PRAGMA user_version=1; PRAGMA application_id={0x6E69656E};")
    old.execute("ATTACH ? AS new", (str(book),))
    columns = "id, plan_id, step, kind, opened_at, rig_time_s, setting, load, channels"
    old.execute("INSERT INTO document SELECT * FROM new.document")
    old.execute(f"INSERT INTO run ({columns}) SELECT {columns} FROM new.run")
    for table in ("frames", "happening", "closing"):
        old.execute(f"INSERT INTO {table} SELECT * FROM new.{table}")
    old.close()


@pytest.mark.parametrize("version", [1, 2])
def test_every_command_reads_a_book_of_before(
    version: int, sweep_copy: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capfd: pytest.CaptureFixture[str]
) -> None:
    book = tmp_path / "old.niente"
    if version == 1:
        of_first_version(sweep_copy)
    else:
        shutil.copyfile(Path(__file__).parents[1] / "data" / "version-2.niente", book)
    before = book.read_bytes()
    for words in (
        ["status"],
        ["status", "--json"],
        ["rig-sheet", "--book"],
        ["choose"],
        ["answer"],
        ["proof"],
        ["fit"],
        ["predict"],
    ):
        code = code_of([*words, str(book)], monkeypatch)
        said = capfd.readouterr()
        assert code in ({0} if version == 1 or words[0] in ("status", "rig-sheet") else {0, 6}), (words, said)
    assert book.read_bytes() == before
