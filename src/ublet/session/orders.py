"""Orders from typed words: a trial's name and KEY=VALUE parameters."""

from __future__ import annotations

import difflib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from ublet.core.catalogue import TRIALS
from ublet.core.settings import Part, Value
from ublet.core.trial import TrialSpec
from ublet.core.trouble import Trouble
from ublet.core.typed import typed_value
from ublet.core.units import NotAQuantity


@dataclass(frozen=True)
class Order:
    """What to run: the trial, its parameters, and whether to keep and to save what it proposes. go_on: from where an
    earlier run of it was cut off.
    """

    spec: TrialSpec
    parameters: Part
    keep: bool = False
    save: bool = False
    verify: TrialSpec | None = None
    verify_parameters: Part | None = None
    go_on: bool = False

    def asks(self) -> TrialSpec | None:
        """The trial of this order that puts questions to the builder; None: none does."""
        if self.spec.asks(self.parameters):
            return self.spec
        if self.keep and self.verify is not None and self.verify.asks(self.verify_parameters):
            return self.verify
        return None


class OrderError(Trouble):
    """An order cannot be understood; the message says what is allowed."""


def order_for(trial: str, words: Sequence[str], keep: bool, save: bool) -> Order:
    """Build an order; ``save`` saves what was kept, so it needs ``keep``.

    Raises:
        OrderError: unknown trial or parameter, or a value that is not allowed.
    """
    spec = TRIALS.get(trial)
    if spec is None:
        near = difflib.get_close_matches(trial, list(TRIALS), 1, 0.4)
        hint = f" Did you mean {near[0]}?" if near else ""
        raise OrderError(f"no trial “{trial}”; known: {', '.join(TRIALS)}.{hint}")
    if save and not keep and spec.verify:
        raise OrderError("--save saves what was kept: add --keep")
    parameters = parameters_from(spec, words)
    verify = TRIALS[spec.verify] if spec.verify else None
    return Order(spec, parameters, keep, save, verify, _checking(verify, parameters) if verify else None)


def _checking(verify: TrialSpec, parameters: Part) -> Part:
    """The check's parameters; whoever orders trial and check together has agreed to wait between them."""
    shared = _shared(verify, parameters)
    return shared.model_copy(update={"wait": True}) if hasattr(shared, "wait") else shared


def parameters_from(spec: TrialSpec, words: Sequence[str]) -> Part:
    """A trial's parameters from KEY=VALUE words; what is not named has its usual value.

    Raises:
        OrderError: an unknown parameter, or a value that is not allowed.
    """
    typed = dict(_split(word) for word in words)
    return spec.parameters(**{key: _value(spec, key, text) for key, text in typed.items()})


def _shared(verify: TrialSpec, parameters: Part) -> Part:
    """The check's parameters, where they are the same as the trial's."""
    known = {declared.path for declared in verify.declared()}
    given: Mapping[str, Value] = parameters.model_dump()
    return verify.parameters(**{key: value for key, value in given.items() if key in known})


def verify_parameters(spec: TrialSpec, parameters: Part) -> Part:
    """Parameters of the trial that checks a keep of this one."""
    assert spec.verify is not None
    return _shared(TRIALS[spec.verify], parameters)


def _split(word: str) -> tuple[str, str]:
    key, equals, value = word.partition("=")
    if not equals or not key:
        raise OrderError(f"--set {word}: write KEY=VALUE, for example --set target=215")
    return key.strip(), value.strip()


def _value(spec: TrialSpec, key: str, text: str) -> Value:
    declared = next((item for item in spec.declared() if item.path == key), None)
    if declared is None:
        known = ", ".join(item.path for item in spec.declared())
        raise OrderError(f"{spec.name} has no parameter “{key}”; known: {known}")
    try:
        return typed_value(declared, text)
    except NotAQuantity as error:
        raise OrderError(f"{key}: {error}") from error
