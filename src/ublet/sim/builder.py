"""The scripted builder: answers a trial's questions from what it would see, and does what it is asked to do."""

from __future__ import annotations

from ublet.core.motion.motor_trials import motor_words
from ublet.core.trial import Question
from ublet.sim.scenario import Scenario
from ublet.sim.world import Hands


class ScriptedBuilder:
    """Stands in for the person at the machine in headless runs."""

    def __init__(self, scenario: Scenario, hands: Hands) -> None:
        self._scenario = scenario
        self._hands = hands

    async def answer(self, question: Question) -> str:
        """The answer that this builder gives."""
        seen = self._hands.look()
        match question.cue:
            case ("press", name):
                self._hands.press(name, True)
                return "held" if name in seen["switches"] else "out of reach"
            case ("let go", name):
                self._hands.press(name, False)
            case ("look", "pin"):
                return "yes" if seen["pin_down"] else "no"
            case ("look", "fans"):
                return next((name for name in seen["turning"] if name in question.answers), "none")
            case ("look", "motor"):
                names = [motor_words(f"axes.{role.replace('.', '.motors.')}") for role in seen["turned"] if "." in role]
                names += ["extruder"] if "extruder" in seen["turned"] else []
                return next((name for name in names if name in question.answers), "nothing")
            case ("look", "direction"):
                return str(seen["moved"])
            case ("feel", *blocks):
                return next((name for name in seen["warm"] if name in blocks), "cannot tell")
        if "wait" in question.answers and not self._scenario.builder.waits:
            return next(answer for answer in question.answers if answer != "wait")
        return question.answers[0]
