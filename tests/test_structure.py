"""The house: no circle of imports, styles beside their panes, keys declared once."""

from __future__ import annotations

import ast
import functools
import os
import re
import sys
import tomllib
from importlib import metadata
from pathlib import Path

import pytest
from textual.binding import Binding

import ublet
from tests.waiting import WAITING
from ublet.core.route import ROUTE
from ublet.tui.app import UbletApp
from ublet.tui.benches import BENCHES

SOURCE = Path(ublet.__file__).parent


@functools.cache
def modules() -> dict[str, Path]:
    found = {}
    for path in SOURCE.rglob("*.py"):
        name = ".".join(("ublet", *path.relative_to(SOURCE).with_suffix("").parts))
        found[name.removesuffix(".__init__")] = path
    return found


def test_groups_of_tests_stay_on_one_worker(request: pytest.FixtureRequest) -> None:
    """Processes run one after the other, and what takes long to make is made once: only as long as groups hold."""
    grouped = [item for item in request.session.items if any(item.iter_markers("xdist_group"))]
    if "PYTEST_XDIST_WORKER" in os.environ:
        apart = [item.nodeid for item in grouped if "@" not in item.nodeid]
        assert not apart, "run them with --dist loadgroup, and see pyproject.toml"
        waiting = [item for item in request.session.items if item.get_closest_marker(WAITING)]
        assert set(waiting) <= set(grouped)


def test_what_is_imported_is_asked_for_by_the_package_itself() -> None:
    """Whoever installs it without the tools of its developers starts it, too: ``make demo`` in a fresh clone."""
    project = tomllib.loads((SOURCE.parents[1] / "pyproject.toml").read_text(encoding="utf-8"))["project"]
    asked = {re.split(r"[^A-Za-z0-9_-]", each)[0].lower() for each in project["dependencies"]}
    by_module = metadata.packages_distributions()
    missing = {
        f"{name} imports {top}"
        for name, path in modules().items()
        for top in tops_of(path) - set(sys.stdlib_module_names) - {"ublet"}
        if not {each.lower() for each in by_module.get(top, ())} & asked
    }
    assert missing == set() and len(asked) > 8


def test_the_version_stands_once_and_every_dependency_has_a_version_that_was_tried() -> None:
    root = SOURCE.parents[1]
    project = tomllib.loads((root / "pyproject.toml").read_text(encoding="utf-8"))["project"]
    assert "version" not in project and "version" in project["dynamic"]
    assert f"## {ublet.__version__}" in (root / "CHANGELOG.md").read_text(encoding="utf-8")
    lines = (root / "constraints.txt").read_text(encoding="utf-8").splitlines()
    pinned = {line.partition("==")[0].lower().replace("_", "-") for line in lines if "==" in line}
    wanted = (*project["dependencies"], *project["optional-dependencies"]["dev"])
    assert {re.split(r"[^A-Za-z0-9_-]", each)[0].lower() for each in wanted} <= pinned
    assert (SOURCE / "py.typed").exists()


def tops_of(path: Path) -> set[str]:
    """The packages that a module imports anywhere."""
    found: set[str] = set()
    for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
        if isinstance(node, ast.Import):
            found |= {each.name.partition(".")[0] for each in node.names}
        elif isinstance(node, ast.ImportFrom) and node.module and not node.level:
            found.add(node.module.partition(".")[0])
    return found


def imported(name: str, path: Path) -> set[str]:
    """What a module imports when it is itself imported; not what it imports in a function, or for types."""
    known, found = modules(), set()
    tree = ast.parse(path.read_text(encoding="utf-8"))
    body = list(tree.body)
    while body:
        node = body.pop()
        if isinstance(node, ast.If) and "TYPE_CHECKING" not in ast.dump(node.test):
            body += node.body + node.orelse
        elif isinstance(node, ast.Try):
            body += node.body
        elif isinstance(node, ast.ImportFrom) and node.module and node.module.startswith("ublet"):
            whole = {f"{node.module}.{each.name}" for each in node.names}
            found |= (whole & known.keys()) or {node.module}
        elif isinstance(node, ast.Import):
            found |= {each.name for each in node.names if each.name in known}
    return (found & known.keys()) - {name}


def test_no_circle_of_imports() -> None:
    graph = {name: imported(name, path) for name, path in modules().items()}
    assert sum(map(len, graph.values())) > 1000
    done: set[str] = set()

    def visit(name: str, way: tuple[str, ...]) -> None:
        assert name not in way, " → ".join((*way[way.index(name) :], name))
        if name not in done:
            for each in sorted(graph[name]):
                visit(each, (*way, name))
            done.add(name)

    for name in graph:
        visit(name, ())


def test_every_style_stands_beside_the_pane_that_reads_it() -> None:
    styles = sorted((SOURCE / "tui").rglob("*.tcss"))
    assert len(styles) > 20
    for style in styles:
        pane = style.with_suffix(".py").read_text(encoding="utf-8")
        assert "style_beside(__file__)" in pane or "app.tcss" in pane, style
    for path in (SOURCE / "tui").rglob("*.py"):
        text = path.read_text(encoding="utf-8")
        assert not re.search(r"#[0-9a-f]{6}\b", text) or path.name == "theme.py", f"a colour stands in {path}"
        assert 'CSS = """' not in text, f"styles stand in {path}"


def told(bindings: list[Binding]) -> list[str]:
    return [each.key for each in bindings if each.show and each.description and not each.tooltip]


@pytest.mark.parametrize("kind", BENCHES)
def test_every_key_of_a_bench_says_what_it_is_for(kind: str) -> None:
    bench = BENCHES[kind]
    declared = [b for c in bench.__mro__ for b in c.__dict__.get("BINDINGS", ()) if isinstance(b, Binding)]
    hidden = {b.action.partition("(")[0] for b in declared if b.tooltip}
    assert [
        b.key for b in declared if b.action.partition("(")[0] not in hidden and b.key not in ("left", "right")
    ] == []
    assert bench.title and bench.why and not bench.why.endswith(".")
    actions = [binding.action for binding in bench.own_bindings()]
    assert len(actions) == len(set(actions))


def test_every_key_of_the_app_says_what_it_is_for() -> None:
    assert told([each for each in UbletApp.BINDINGS if isinstance(each, Binding)]) == []


def test_the_route_and_the_benches_know_the_same_kinds() -> None:
    assert set(BENCHES) == {station.bench for station in ROUTE}
