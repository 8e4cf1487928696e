"""The words of the heater benches: why and how, and what can be done next."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich.text import Text

from ublet.core.heat.candidates import AS_FOUND
from ublet.core.units import show, with_uncertainty
from ublet.session.record import local_time
from ublet.tui.frame.help import Help
from ublet.tui.frame.theme import Ink
from ublet.tui.trial.settlement import key_words

if TYPE_CHECKING:
    from ublet.tui.heat.heater import HeaterBench

HOTEND_HELP = Help(
    """\
    A hotend that overshoots burns the first millimetres of filament, and one that ripples prints bands. The gains of
    another machine do not fit yours: power, block, sock and fan decide.
    """,
    """\
    From room temperature the board heats at full power, then switches around the target by itself. Each cycle gives
    the block’s gain and delay. The first swing after any change is thrown away; when three agree
    within 2 % it stops. Two more with the part fan on give the heat lost to the fan. A model (gain, two lags, dead
    time) is fitted to the whole record, and the board's own control law is run on that model for each set of gains:
    that is the prediction.

    calm: Tyreus-Luyben, slow and safe. balanced: SIMC, from the model. quick: Ziegler-Nichols, overshoots.

    Keep writes the gains to the live machine. Verify heats from cold with them and compares with the prediction. Save
    puts them into the board's store and the machine file, both or neither.

    Gains fit best where they were found. Noted as a set, they are known at their temperature; the gain sets show every
    known one at every material's temperature, and there you can let the board use a set near its own.
    """,
)

BED_HELP = Help(
    """\
    A bed that swings prints bands in step with its swing, and a warped first layer where it was tuned hot. It is slow:
    its gains are not those of a hotend.
    """,
    """\
    As for the hotend, without the fan: full power from room temperature, then the board switches around the target. A
    climb that will level off below the target is predicted early from the heat-up curve. Beside the gains stands on-off
    control, with the swing that the same model predicts for it: with a mains bed and a mechanical relay it may be what
    you want.
    """,
)

SHORT_BELOW = 30


def next_steps(bench: HeaterBench) -> Text:
    """What was said last, and what can be done next."""
    text = Text()
    if bench.told is not None:
        text.append(f"{bench.told[0]}\n", bench.told[1])
    if bench.watched is not None:
        text.append(f"{bench.watch_words()}  ", Ink.dim)
        key_words(text, "esc", "cancels, F8 halts: everything goes off.")
    elif bench.tuned is None:
        text.append_text(bench.start_words())
        text.append_text(_shadows(bench))
    else:
        text.append_text(_after_tuning(bench))
    return text


def _after_tuning(bench: HeaterBench) -> Text:
    text = Text()
    assert bench.tuned is not None and bench.entry is not None
    live, unsaved = bench.live_option(), bench.session.unsaved()
    tuned = bench.tuned
    delay = tuned.finding("delay")
    gain, lag = tuned.finding("gain"), tuned.finding("time_constant")
    if gain and lag and delay and bench.size.height > SHORT_BELOW:
        text.append(f"model of {local_time(bench.entry.at)}   ", Ink.dim)
        for word, finding in (("gain", gain), ("time constant", lag), ("dead time and lag", delay)):
            value = with_uncertainty(finding.value, finding.uncertainty or 0.0, finding.unit)
            text.append(f"{word} {value}   ", Ink.dim)
        text.append("\n")
    option = bench.option
    if not live or live == AS_FOUND:
        text.append(f"recommended: {tuned.why}.  ", Ink.proposal)
    if option is not None and option.name not in (live, AS_FOUND):
        key_words(text, "k", f"keeps {option.name}: live, not yet saved.  ")
    if unsaved:
        key_words(text, "v", "verifies by a step from cold.  ")
        text.append("ctrl+s", Ink.focus)
        unverified = "" if bench.verified_live() else ", without a verification"
        text.append(f" saves to board and file{unverified}.  ", Ink.text)
        key_words(text, "d", "drops it.")
    elif live and live != AS_FOUND:
        text.append(f"{live} is live and saved. ", Ink.good)
        if not bench.verified_live():
            key_words(text, "v", "verifies it by a step from cold.")
    text.append("\n" if text.plain and not text.plain.endswith("\n") else "")
    text.append_text(bench.start_words())
    return text


def _shadows(bench: HeaterBench) -> Text:
    """Stored values on the board that hide what the file says of this heater."""
    text = Text()
    root = f"heaters.{bench.heater}."
    for shadow in bench.session.shadowed():
        if shadow.path.startswith(root):
            stored, file = (show(v) if isinstance(v, float) else str(v) for v in (shadow.stored, shadow.file))
            text.append("\n! ", Ink.focus)
            text.append(f"{shadow.path}: the board's store says {stored} and wins; ", Ink.text)
            text.append(f"the file says {file}.", Ink.text)
    return text
