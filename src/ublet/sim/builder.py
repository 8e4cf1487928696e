"""The scripted builder: answers a trial's questions from the scenario."""

from __future__ import annotations

from ublet.core.trial import Question
from ublet.sim.scenario import Scenario


class ScriptedBuilder:
    """Stands in for the person at the machine in headless runs."""

    def __init__(self, scenario: Scenario) -> None:
        self._scenario = scenario

    async def answer(self, question: Question) -> str:
        """The answer that this builder gives."""
        if "wait" in question.answers and not self._scenario.builder.waits:
            return next(answer for answer in question.answers if answer != "wait")
        return question.answers[0]
