"""Preferences: kept with comments, read leniently, and never in the way."""

from __future__ import annotations

import tomllib
from pathlib import Path

import pytest
from pydantic import ValidationError

from ublet.core.settings import declarations
from ublet.session.preferences import Kept, Preferences


def test_without_a_file_the_usual_ones_hold_and_nothing_is_written(tmp_path: Path) -> None:
    kept = Kept(tmp_path / "preferences.toml")
    assert kept.now == Preferences() and not kept.trouble and not list(tmp_path.iterdir())
    kept.change(sound=False)  # as it was
    assert not list(tmp_path.iterdir())


def test_a_change_writes_every_preference_with_what_it_is_for(tmp_path: Path) -> None:
    path = tmp_path / "new" / "preferences.toml"
    Kept(path).change(theme="bone")
    text = path.read_text(encoding="utf-8")
    assert tomllib.loads(text) == {**Preferences().model_dump(), "theme": "bone"}
    for declared in declarations(Preferences):
        assert f"# {declared.help} Allowed: {declared.allowed()}." in text
    assert Kept(path).now.theme == "bone"


def test_comments_and_other_values_survive_a_change(tmp_path: Path) -> None:
    path = tmp_path / "preferences.toml"
    path.write_text('# mine\nlength_unit = "thou"  # the shop\n', encoding="utf-8")
    Kept(path).change(sound=True)
    text = path.read_text(encoding="utf-8")
    assert '# mine\nlength_unit = "thou"  # the shop\n' in text
    assert tomllib.loads(text) == {"length_unit": "thou", "sound": True}


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ('length_unit = "furlong"\ntheme = "bone"\n', "length_unit: found 'furlong'; allowed: one of mm, in, thou"),
        ('colour = 3\ntheme = "bone"\n', "colour: found 3; allowed: no such preference"),
        ('jog_step_mm = 1e9\ntheme = "bone"\n', "jog_step_mm: found 1000000000.0; allowed: 0.01 to 100 mm"),
    ],
)
def test_what_is_wrong_is_named_and_the_rest_taken(text: str, words: str, tmp_path: Path) -> None:
    path = tmp_path / "preferences.toml"
    path.write_text(text, encoding="utf-8")
    kept = Kept(path)
    assert words in kept.trouble and kept.now == Preferences(theme="bone")


@pytest.mark.parametrize("content", [b"theme = ", b"\xff\xfe", b"[[["])
def test_a_file_that_cannot_be_read_is_told_and_left_alone(content: bytes, tmp_path: Path) -> None:
    path = tmp_path / "preferences.toml"
    path.write_bytes(content)
    kept = Kept(path)
    assert str(path) in kept.trouble and kept.now == Preferences()
    kept.change(theme="bone")
    assert kept.now.theme == "bone" and "could not be written" in kept.trouble and path.read_bytes() == content


def test_a_folder_that_cannot_be_made_is_told(tmp_path: Path) -> None:
    (tmp_path / "file").write_text("", encoding="utf-8")
    kept = Kept(tmp_path / "file" / "preferences.toml")
    kept.change(sound=True)
    assert kept.now.sound and "could not be written" in kept.trouble


def test_a_value_that_is_not_allowed_is_not_taken() -> None:
    kept = Kept(None)
    with pytest.raises(ValidationError):
        kept.change(theme="pink")
    assert kept.now.theme == "soot"
