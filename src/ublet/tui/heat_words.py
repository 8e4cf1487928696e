"""The words of the heater benches: heading, needs, and what can be done next."""

from __future__ import annotations

from typing import TYPE_CHECKING, Protocol

from rich.text import Text

from ublet.core.heat.candidates import AS_FOUND
from ublet.core.units import show, with_uncertainty
from ublet.session.record import local_time

if TYPE_CHECKING:
    from textual.geometry import Size

    from ublet.core.heat.trials import ControlAim
    from ublet.core.run import Option
    from ublet.core.trial import Need, TrialSpec
    from ublet.ledger.entries import RunEntry
    from ublet.session.session import Session
    from ublet.tui.theme import Palette
    from ublet.tui.watch import TrialWatch


class BenchState(Protocol):
    """What the words are made from."""

    palette: Palette
    session: Session
    aim: ControlAim
    control: TrialSpec
    title: str
    why: str
    watched: TrialWatch | None
    verifying: bool
    tuned: RunEntry | None
    told: tuple[str, str] | None

    @property
    def size(self) -> Size:
        """Room on the screen."""

    @property
    def option(self) -> Option | None:
        """The chosen gains."""

    def needs(self) -> tuple[Need, ...]:
        """What is there and what is missing for a start."""

    def live_option(self) -> str:
        """Name of the option whose gains are live."""

    def verified_live(self) -> bool:
        """Whether the live gains were verified."""


HOTEND_HELP = """\
WHY   A hotend that overshoots burns the first millimetres and one that ripples prints bands. The gains
      of another machine do not fit yours: power, block, sock and fan decide.

HOW   From room temperature the board heats at full power, then switches around the target by itself.
      Each swing tells how strongly and how late the block answers. The first swing after any change is
      thrown away; when three agree within 2 % it stops. Two more with the part fan on tell what the fan
      takes away. A model (gain, two lags, dead time) is fitted to the whole record, and the board's own
      control law is run on that model for each set of gains: that is the prediction.

      calm      Tyreus-Luyben: slow and safe
      balanced  SIMC, from the model
      quick     Ziegler-Nichols: overshoots

      Keep writes the gains to the live machine. Verify heats from cold with them and compares with the
      prediction. Save puts them into the board's store and the machine file, both or neither.

      Gains fit best where they were found. n notes the chosen ones as a set for their temperature; g draws every
      known set at every material's temperature, and there a set is used by the board near its own, or no longer.

KEYS  enter start            t  temperature         ↑ ↓  choose gains
      k     keep             d  drop                v    verify
      g     gain sets        n  note the chosen gains in the machine file
      e     export           esc  cancel
"""

BED_HELP = """\
WHY   A bed that swings prints bands in step with its swing, and a warped first layer where it was tuned hot. It is
      slow: its gains are not those of a hotend.

HOW   As for the hotend, without the fan: full power from room temperature, then the board switches around the
      target. A climb that will level off below the target is told early, from the climb itself. Beside the gains
      stands on-off control, with the swing that the same model predicts for it: with a mains bed and a mechanical
      relay it may be what you want.

KEYS  enter start            t  temperature         ↑ ↓  choose
      k     keep             d  drop                v    verify
      g     gain sets        n  note the chosen gains in the machine file
      e     export           esc  cancel
"""

SHORT_BELOW = 30
WATCHING = {
    False: "Watch the swings: the gains are read from the last ones, once three agree within 2 %.",
    True: "Watch brass against slate: the measured step should follow the predicted one.",
}


def heading(bench: BenchState) -> Text:
    """What this station is for, what will heat, and each need with a tick or what is missing."""
    palette, text, control = bench.palette, Text(), bench.control
    text.append(bench.title, f"bold {palette.text}")
    text.append(f"   {bench.why} at {bench.aim.target:g} °C\n", palette.dim)
    if bench.watched is not None:
        spec = bench.session.runner.running or control
        text.append(f"{spec.announce(bench.session.document.machine, bench.aim)} ", palette.text)
        text.append("esc cancels, F8 halts.", palette.dim)
        return text
    text.append(f"{control.announce(bench.session.document.machine, bench.aim)}\n", palette.text)
    for need in bench.needs():
        style = palette.good if need.met else palette.stop if need.blocking else palette.focus
        text.append("✓ " if need.met else "✗ " if need.blocking else "! ", style)
        text.append(f"{need.words}    ", palette.text)
    return text


def next_steps(bench: BenchState) -> Text:
    """What was said last, and what can be done next."""
    palette, text = bench.palette, Text()
    if bench.told is not None:
        words, style = bench.told
        text.append(f"{words}\n", style)
    if bench.watched is not None:
        text.append(WATCHING[bench.verifying], palette.dim)
    elif bench.tuned is None:
        text.append("enter", palette.focus)
        text.append(" starts: full power to the target, then the board switches around it.  ", palette.text)
        text.append("t", palette.focus)
        text.append(" sets another temperature.", palette.text)
        text.append_text(_shadows(bench))
    else:
        text.append_text(_after_tuning(bench))
    return text


def _after_tuning(bench: BenchState) -> Text:
    palette, text = bench.palette, Text()
    assert bench.tuned is not None
    live, unsaved = bench.live_option(), bench.session.unsaved()
    tuned = bench.tuned.result
    delay = tuned.finding("delay")
    gain, lag = tuned.finding("gain"), tuned.finding("time_constant")
    if gain and lag and delay and bench.size.height > SHORT_BELOW:
        text.append(f"model of {local_time(bench.tuned.at)}   ", palette.dim)
        for word, finding in (("gain", gain), ("time constant", lag), ("dead time and lag", delay)):
            value = with_uncertainty(finding.value, finding.uncertainty or 0.0, finding.unit)
            text.append(f"{word} {value}   ", palette.dim)
        text.append("\n")
    option = bench.option
    if not live or live == AS_FOUND:
        text.append(f"recommended: {tuned.why}.  ", palette.proposal)
    if option is not None and option.name not in (live, AS_FOUND):
        text.append("k", palette.focus)
        text.append(f" keeps {option.name}: live, not yet saved.  ", palette.text)
    if unsaved:
        text.append("v", palette.focus)
        text.append(" verifies by a step from cold.  ", palette.text)
        text.append("ctrl+s", palette.focus)
        unverified = "" if bench.verified_live() else ", without a verification"
        text.append(f" saves to board and file{unverified}.  ", palette.text)
        text.append("d", palette.focus)
        text.append(" drops it.", palette.text)
    elif live and live != AS_FOUND:
        text.append(f"{live} is live and saved. ", palette.good)
        if not bench.verified_live():
            text.append("v", palette.focus)
            text.append(" verifies it by a step from cold.", palette.text)
    return text


def _shadows(bench: BenchState) -> Text:
    """Stored values on the board that hide what the file says of this heater."""
    text = Text()
    root = f"heaters.{bench.aim.heater}."
    for shadow in bench.session.shadowed():
        if shadow.path.startswith(root):
            stored, file = (show(v) if isinstance(v, float) else str(v) for v in (shadow.stored, shadow.file))
            text.append("\n! ", bench.palette.focus)
            text.append(f"{shadow.path}: the board's store says {stored} and wins; ", bench.palette.text)
            text.append(f"the file says {file}.", bench.palette.text)
    return text
