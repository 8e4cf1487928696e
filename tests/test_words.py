"""The vocabulary of docs/words.md, held against the source and the documents."""

from __future__ import annotations

import ast
import io
import re
import tokenize
from collections.abc import Iterator
from pathlib import Path

import pytest

import ublet

SOURCE = Path(ublet.__file__).parent
ROOT = SOURCE.parents[1]
MODULES = sorted(SOURCE.rglob("*.py"))


def banned(what: str, separator: str = " ") -> set[str]:
    """A list of docs/words.md, by the word before its colon."""
    text = (ROOT / "docs" / "words.md").read_text(encoding="utf-8")
    (line,) = re.findall(rf"^- {what}: (.+)$", text, re.MULTILINE)
    return {word.strip() for word in line.split(separator)}


def words_of(name: str) -> set[str]:
    """The words of an identifier: ``live_train``, ``SweepMove``."""
    return {word.lower() for word in re.findall(r"[A-Z]+(?![a-z])|[A-Z]?[a-z]+", name)}


def tokens(path: Path) -> Iterator[tokenize.TokenInfo]:
    yield from tokenize.generate_tokens(io.StringIO(path.read_text(encoding="utf-8")).readline)


def prose(path: Path) -> Iterator[tuple[int, str]]:
    """Docstrings, comments, and sentences that a user sees, with their lines."""
    for token in tokens(path):
        if token.type == tokenize.COMMENT:
            yield token.start[0], token.string
    for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
        if isinstance(node, ast.Constant) and isinstance(node.value, str) and " " in node.value.strip():
            yield node.lineno, node.value


def test_no_name_has_a_banned_word() -> None:
    wrong, exempt = banned("names"), banned("exempt names")
    assert len(wrong) > 20
    found = {
        f"{path.relative_to(SOURCE)}:{token.start[0]} {token.string}"
        for path in MODULES
        for token in tokens(path)
        if token.type == tokenize.NAME and token.string not in exempt and words_of(token.string) & wrong
    }
    assert found == set()


def test_no_local_says_nothing() -> None:
    wrong = banned("locals")
    found = {
        f"{path.relative_to(SOURCE)}:{node.lineno} {node.id}"
        for path in MODULES
        for function in ast.walk(ast.parse(path.read_text(encoding="utf-8")))
        if isinstance(function, (ast.FunctionDef, ast.AsyncFunctionDef))
        for node in ast.walk(function)
        if isinstance(node, ast.Name) and isinstance(node.ctx, ast.Store) and node.id in wrong
    }
    assert found == set()


def test_no_sentence_has_a_banned_word() -> None:
    pattern, exempt = re.compile(rf"\b({'|'.join(banned('sentences'))})\b"), banned("exempt sentences", ";")
    found = {
        f"{path.relative_to(SOURCE)}:{line} {text.strip()[:80]}"
        for path in MODULES
        for line, text in prose(path)
        if text not in exempt and pattern.search(text)
    }
    assert found == set()


def test_no_sentence_for_a_user_is_a_riddle() -> None:
    """What a docstring may say, a question, a help text or a result may not."""
    pattern = re.compile(rf"\b({'|'.join(banned('sentences of users', ';'))})\b")
    found = set()
    for path in MODULES:
        tree = ast.parse(path.read_text(encoding="utf-8"))
        bare = {id(node.value) for node in ast.walk(tree) if isinstance(node, ast.Expr)}
        found |= {
            f"{path.relative_to(SOURCE)}:{node.lineno} {node.value[:80]}"
            for node in ast.walk(tree)
            if isinstance(node, ast.Constant) and isinstance(node.value, str) and id(node) not in bare
            if pattern.search(node.value)
        }
    assert found == set()


@pytest.mark.parametrize(
    "name", ["README.md", "CHANGELOG.md", *(f"docs/{each.name}" for each in (ROOT / "docs").glob("*.md"))]
)
def test_documents_speak_alike(name: str) -> None:
    pattern = re.compile(rf"\b({'|'.join(banned('sentences'))})\b")
    lines = (ROOT / name).read_text(encoding="utf-8").splitlines()
    if name == "docs/words.md":
        lines = lines[: lines.index("## Glossary")]
    assert [line for line in lines if pattern.search(line)] == []


def test_no_class_stands_for_two_things() -> None:
    """Classes and type aliases at the top of a module have names of their own."""
    places: dict[str, list[str]] = {}
    for path in MODULES:
        for node in ast.parse(path.read_text(encoding="utf-8")).body:
            names = [node.name] if isinstance(node, ast.ClassDef) else []
            if isinstance(node, ast.Assign) and isinstance(node.targets[0], ast.Name):
                name = node.targets[0].id
                names = [name] if re.fullmatch(r"[A-Z][a-z]\w*", name) and len(name) > 1 else []
            for name in names:
                places.setdefault(name, []).append(str(path.relative_to(SOURCE)))
    assert len(places) > 400 and {name: where for name, where in places.items() if len(where) > 1} == {}


def test_no_docstring_begins_with_a_riddle() -> None:
    """What a constant or function is, by its role: “Most rows …”, “Time after …”, never “So many …”."""
    openings = tuple(banned("openings of docstrings", ";"))
    riddles = {
        f"{path.relative_to(SOURCE)}:{node.lineno} {node.value.value[:60]}"
        for path in MODULES
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8")))
        if isinstance(node, ast.Expr) and isinstance(node.value, ast.Constant) and isinstance(node.value.value, str)
        if node.value.value.lstrip().startswith(openings)
    }
    assert riddles == set()
