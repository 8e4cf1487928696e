"""The bench of the guards: what each watches, with which parameters, and how soon the last drill saw it trip."""

from __future__ import annotations

from rich.text import Text

from ublet.core.heat.drills import DRILLS, RAIL_S
from ublet.core.heat.references import lowest_limit
from ublet.core.machine.heat_parts import Heater
from ublet.core.trial import TrialResult
from ublet.core.units import show
from ublet.session.session import Session
from ublet.tui.asking import AskingBench
from ublet.tui.pictures import Picture
from ublet.tui.theme import Palette
from ublet.tui.watch import TrialWatch

COLUMNS = (19, 44, 9, 15, 9)


class GuardsBench(AskingBench):
    """Guards that cannot be switched off, proven one by one."""

    DEFAULT_CSS = """
    GuardsBench #detail { height: 7; }
    """
    kind = "guards"
    why = "Guards   the board switches off by itself, also when nobody looks"

    def picture(self) -> Picture:
        """Guards of the chosen heater, and its maximum."""

        def draw(session: Session, watched: TrialWatch | None, width: int, height: int, palette: Palette) -> Text:
            name = str(getattr(self.aim, "heater", ""))
            heater = session.document.machine.heaters.get(name)
            if heater is None:
                return Text(f"no heater “{name}” is declared", palette.stop)
            running = watched.latest.phase if watched is not None and watched.latest is not None else ""
            return guards_text(session, name, heater, self.result, running, palette)

        return draw


def watches(heater: Heater) -> dict[str, str]:
    """What each guard watches, by the drill that proves it, in words with this heater's parameters."""
    guards = heater.guards
    return {
        "sensor pulled out": "the sensor reads open while it heats",
        "sensor shorted": "the sensor reads shorted while it heats",
        "cold room": "below 5 °C while it heats",
        "heater falls out": f"at full power it rises {guards.rise_c:g} °C in {guards.rise_window_s:g} s",
        "switch stuck on": f"within {guards.drift_c:g} °C of its target, or back in {guards.drift_window_s:g} s",
        "over maximum": f"never above {heater.maximum_c:g} °C",
        "link cut": "hears from the host while it heats",
    }


def guards_text(
    session: Session, name: str, heater: Heater, result: TrialResult | None, running: str, palette: Palette
) -> Text:
    """The table of guards, and what bounds the maximum."""
    text = Text(no_wrap=True)
    titles = ("drill", f"what the board watches at the {name}", "allowed", "noticed after", "peak")
    for title, columns in zip(titles, COLUMNS, strict=True):
        text.append(f"{title:<{columns}}" if columns > 15 else f"{title:>{columns}}", palette.dim)
    text.append("\n")
    shown = result if result is not None and any(f.name.endswith("noticed after") for f in result.findings) else None
    harmless = {drill.name: drill.harmless for drill in DRILLS}
    for drill, words in watches(heater).items():
        seen = shown.finding(f"{drill} noticed after") if shown is not None else None
        peak = shown.finding(f"{drill} peak") if shown is not None else None
        now = drill == running
        text.append("\n")
        text.append(f"{drill:<{COLUMNS[0]}}", f"bold {palette.focus}" if now else palette.text)
        text.append(f"{words:<{COLUMNS[1]}}", palette.dim)
        allowed = show(seen.limit, "s", 3) if seen is not None and seen.limit is not None else _allowed(drill)
        text.append(f"{allowed:>{COLUMNS[2]}}", palette.dim)
        text.append(
            f"{f'{seen.value:.1f} s' if seen else '–':>{COLUMNS[3]}}", f"bold {palette.focus}" if seen else palette.dim
        )
        text.append(f"{f'{peak.value:.0f} °C' if peak else '–':>{COLUMNS[4]}}", palette.text if peak else palette.dim)
        if now:
            text.append("   ◆ now", f"bold {palette.focus}")
        elif seen is not None:
            good = seen.within and (peak is None or peak.within)
            text.append("   ● in time" if good else "   ✗ too late", palette.good if good else palette.stop)
        elif not harmless.get(drill, True):
            text.append("   simulated only", palette.quiet)
        text.append("\n")
    text.append_text(_maximum(session, name, heater, palette))
    return text


def _allowed(drill: str) -> str:
    return f"{RAIL_S:g} s" if drill in ("sensor pulled out", "sensor shorted", "cold room", "over maximum") else "–"


def _maximum(session: Session, name: str, heater: Heater, palette: Palette) -> Text:
    """What each part stands, and which one bounds the heater."""
    text = Text()
    limit, part = lowest_limit(heater.maximum_c, {key: each.celsius for key, each in heater.limits.items()})
    text.append(f"\nThe {name} may reach ", palette.text)
    text.append(f"{limit:g} °C", f"bold {palette.focus}")
    text.append(
        f", bounded by its {part}." if part else ", its declared maximum, below what its parts stand:", palette.text
    )
    for key, each in heater.limits.items():
        text.append(f"   {key} {each.celsius:g} °C", palette.dim)
    live = session.live(f"heaters.{name}.maximum_c")
    if isinstance(live, (int, float)) and live != heater.maximum_c:
        text.append(f"   ! live on the board: {live:g} °C", palette.focus)
    return text
