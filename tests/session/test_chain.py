"""What a trial stands on: what is not done is named, and noted with a run that is started nevertheless."""

from __future__ import annotations

from pathlib import Path

from tests.conftest import Onlooker, Rig, virtually
from tests.session.test_wire_trials import RIGHT
from ublet.core.catalogue import TRIALS
from ublet.core.level.mesh.trials import MeshParameters
from ublet.core.level.support.lift_trials import LiftParameters
from ublet.core.motion.homing_trials import HomingParameters
from ublet.core.run import TrialResult
from ublet.core.settings import Part
from ublet.session.chain import chain, heated_parts, unmet_words
from ublet.world.scenario import parse_scenario


def test_a_chain_follows_what_is_proven_and_a_run_notes_what_is_not(tmp_path: Path) -> None:
    async def work() -> tuple[list[str], list[str], TrialResult]:
        async with Rig(tmp_path, parse_scenario(RIGHT)) as rig:
            session, homing = rig.session, TRIALS["homing"]
            before = [link.words for link in chain(session, homing, HomingParameters())]
            for name in ("motors-one-by-one", "directions"):
                spec = TRIALS[name]
                missing = unmet_words(chain(session, spec, spec.parameters()))
                await session.run(spec, spec.parameters(), Onlooker(), knowingly=missing)
            after = [link.words for link in chain(session, homing, HomingParameters())]
            noted = session.ledger.latest("directions")
            assert noted is not None
            return before, after, noted.result

    before, after, noted = virtually(work)
    assert before == ["inputs by hand: not done yet", "motors: not done yet", "directions: not done yet"]
    assert after == ["inputs by hand: not done yet", "motors: failed", "directions: failed"], (
        "any motor, by the answers"
    )
    assert noted.conditions["started_without"] == "motors: failed"


def test_what_is_started_nevertheless_is_in_its_conditions(tmp_path: Path) -> None:
    async def work() -> TrialResult:
        async with Rig(tmp_path, parse_scenario(RIGHT)) as rig:
            spec = TRIALS["fans-one-by-one"]
            entered = await rig.session.run(spec, spec.parameters(), Onlooker(), knowingly="homing: not done yet")
            assert rig.session.ledger.opening(entered.number or 0)["knowingly"] == "homing: not done yet"
            return entered.ran.result

    assert virtually(work).conditions["started_without"] == "homing: not done yet"


def test_only_what_is_heated_has_to_be_paired() -> None:
    from tests.conftest import tern

    def parts(aim: Part) -> tuple[str, ...]:
        return heated_parts(tern(), aim)

    assert parts(LiftParameters()) == () and parts(LiftParameters(material="pla")) == ("bed",)
    assert parts(MeshParameters(material="pla")) == ("bed", "hotend") and parts(HomingParameters()) == ()


def test_a_print_of_ones_own_stands_on_the_first_layer_and_a_dry_square_does_not(tmp_path: Path) -> None:
    async def work() -> tuple[set[str], set[str]]:
        async with Rig(tmp_path, parse_scenario(RIGHT)) as rig:
            own, square = TRIALS["own-print"], TRIALS["test-piece"]
            return tuple(
                {link.station.name for link in chain(rig.session, spec, spec.parameters())} for spec in (own, square)
            )  # type: ignore[return-value]

    own, square = virtually(work)
    assert own > square and {"first layer", "Z offset", "heaters paired", "hotend control"} <= own - square
