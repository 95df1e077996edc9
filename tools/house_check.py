"""Check what the linters do not: names defined twice, files and functions that grew too long, imports that are not declared.

    python tools/house_check.py

Prints each finding as ``path:line: what`` and ends with 1 where there is any.
"""

import ast
import re
import sys
import tomllib
from collections.abc import Iterator
from importlib.metadata import packages_distributions
from pathlib import Path

ROOT = Path(__file__).parents[1]
SOURCE = ROOT / "src"
MAX_FILE_LINES = 425
MAX_FUNCTION_LINES = 75
BUILDS_ONLY = frozenset({"flit-core"})
"""Declared for the build, and imported by nothing that ships."""


def modules() -> dict[Path, ast.Module]:
    """Return every module of the package, parsed, by its path."""
    return {path: ast.parse(path.read_text(encoding="utf-8")) for path in sorted(SOURCE.rglob("*.py"))}


def doubled_names(parsed: dict[Path, ast.Module]) -> Iterator[str]:
    """Yield public classes and functions whose name another module defines too: one name, one thing."""
    first: dict[str, Path] = {}
    for path, module in parsed.items():
        for node in module.body:
            if not isinstance(node, ast.ClassDef | ast.FunctionDef) or node.name.startswith("_") or node.name == "main":
                continue
            if node.name in first:
                other = first[node.name].relative_to(ROOT)
                yield f"{path.relative_to(ROOT)}:{node.lineno}: {node.name} is defined in {other} too"
            first.setdefault(node.name, path)


def too_long(parsed: dict[Path, ast.Module]) -> Iterator[str]:
    """Yield files and functions that answer more than one question, by their length."""
    for path, module in parsed.items():
        lines = path.read_text(encoding="utf-8").count("\n")
        if lines > MAX_FILE_LINES:
            yield f"{path.relative_to(ROOT)}:1: {lines} lines, at most {MAX_FILE_LINES}"
        for node in ast.walk(module):
            if isinstance(node, ast.FunctionDef) and (long := (node.end_lineno or 0) - node.lineno + 1) > MAX_FUNCTION_LINES:
                yield f"{path.relative_to(ROOT)}:{node.lineno}: {node.name} has {long} lines, at most {MAX_FUNCTION_LINES}"


def undeclared(parsed: dict[Path, ast.Module]) -> Iterator[str]:
    """Yield packages that are imported and not declared in pyproject.toml, and those declared that nothing imports."""
    project = tomllib.loads((ROOT / "pyproject.toml").read_text(encoding="utf-8"))["project"]
    declared = {_plain(re.split(r"[<>=!~\[ ]", text)[0]) for text in project["dependencies"]} - BUILDS_ONLY
    distributions = packages_distributions()
    imported: dict[str, str] = {}
    for path, module in parsed.items():
        for node in ast.walk(module):
            for name in _imported_by(node):
                top = name.partition(".")[0]
                if top == "niente" or top in sys.stdlib_module_names:
                    continue
                owners = {_plain(owner) for owner in distributions.get(top, [top])}
                if not owners & declared:
                    yield f"{path.relative_to(ROOT)}:{getattr(node, 'lineno', 1)}: {top} is imported and not declared"
                imported |= dict.fromkeys(owners, top)
    yield from (f"pyproject.toml:1: {name} is declared and nothing imports it" for name in sorted(declared - imported.keys()))


def _imported_by(node: ast.AST) -> list[str]:
    if isinstance(node, ast.Import):
        return [alias.name for alias in node.names]
    return [node.module] if isinstance(node, ast.ImportFrom) and node.module and not node.level else []


def _plain(distribution: str) -> str:
    return re.sub(r"[-_.]+", "-", distribution).lower()


def main() -> int:
    """Print every finding; return the exit code."""
    parsed = modules()
    found = [*doubled_names(parsed), *too_long(parsed), *undeclared(parsed)]
    for finding in found:
        print(finding)
    if not found:
        print("Names, lengths and declared imports are in order.")
    return 1 if found else 0


if __name__ == "__main__":
    sys.exit(main())
