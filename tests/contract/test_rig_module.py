"""What a driver imports: ``niente.rig`` alone, and for one version the spellings that the how-to named before."""

import ast
import importlib
import re
import sys
from pathlib import Path

import pytest

import niente.rig

ROOT = Path(__file__).parents[2]
NAMED_BEFORE = {
    "niente.core.errors": ("RigError",),
    "niente.core.frame": ("Frame",),
    "niente.core.rigcard": ("Channel", "Control", "LoadCard", "LoadKind", "MakersLimits", "Part", "RigCard"),
    "niente.core.setting": ("Setting",),
}


def imported_from_niente(code: str) -> set[str]:
    found = set()
    for node in ast.walk(ast.parse(code)):
        if isinstance(node, ast.ImportFrom) and (node.module or "").startswith("niente"):
            found.add(node.module or "")
        elif isinstance(node, ast.Import):
            found |= {alias.name for alias in node.names if alias.name.startswith("niente")}
    return found


def test_the_examples_import_nothing_else() -> None:
    for page in sorted((ROOT / "docs").rglob("*.md")):
        for code in re.findall(r"```python\n(.*?)```", page.read_text(encoding="utf-8"), re.DOTALL):
            assert imported_from_niente(code) <= {"niente.rig"}, page
    assert imported_from_niente((Path(__file__).parent / "outside.py").read_text(encoding="utf-8")) == {"niente.rig"}


def test_every_name_is_there_and_stands_in_the_reference() -> None:
    text = (ROOT / "docs" / "reference" / "rig-contract.md").read_text(encoding="utf-8")
    missing = [name for name in niente.rig.__all__ if f"`{name}`" not in text]
    assert not missing
    assert all(hasattr(niente.rig, name) for name in niente.rig.__all__)


@pytest.mark.parametrize("module", NAMED_BEFORE)
def test_the_old_spellings_warn_and_give_the_same_things(module: str, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.delitem(sys.modules, module, raising=False)
    with pytest.warns(DeprecationWarning, match=r"niente\.rig"):
        old = importlib.import_module(module)
    for name in NAMED_BEFORE[module]:
        assert getattr(old, name) is getattr(niente.rig, name)
