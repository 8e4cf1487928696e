"""Variants of shipped machines: some parts exchanged, in the machine file and in what is really there."""

from __future__ import annotations

import tomllib
from collections.abc import Mapping, Sequence
from typing import Any

import tomlkit

from ublet.session.library import DATA, machine_path, scenario_path


def variants() -> tuple[str, ...]:
    """Those that ship with the package."""
    return tuple(sorted(path.stem for path in (DATA / "variants").glob("*.toml")))


def variant(name: str) -> tuple[str, str, str]:
    """File stem, machine file and scenario of a variant, as texts; comments of what it is a variant of stay."""
    told = tomllib.loads((DATA / "variants" / f"{name}.toml").read_text(encoding="utf-8"))
    stem = str(told["of"])
    texts = {
        "machine": machine_path(stem).read_text(encoding="utf-8"),
        "scenario": scenario_path(stem).read_text(encoding="utf-8"),
    }
    found = {
        kind: _with(text, told.get(kind, {}), [path for path in told["without"] if path.startswith(f"{kind}.")])
        for kind, text in texts.items()
    }
    return stem, found["machine"], found["scenario"]


def _with(text: str, changes: Mapping[str, Any], without: Sequence[str]) -> str:
    document = tomlkit.parse(text)
    for path in without:
        *tables, key = path.split(".")[1:]
        here: Any = document
        for table in tables:
            here = here[table]
        del here[key]
    _put(document, changes)
    return tomlkit.dumps(document)


def _put(here: Any, changes: Mapping[str, Any]) -> None:
    for key, value in changes.items():
        if isinstance(value, Mapping):
            _put(here.setdefault(key, tomlkit.table()), value)
        else:
            here[key] = value
