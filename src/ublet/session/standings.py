"""Where each station stands: from the ledger, the machine file and the board."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace

from ublet.core.capabilities import lacking_words
from ublet.core.catalogue import TRIALS
from ublet.core.level.warmth import cold_words
from ublet.core.machine.image import ImageError
from ublet.core.route import ROUTE, Station, StationState
from ublet.core.run import Option
from ublet.core.typed import shown_value
from ublet.core.words import counted
from ublet.session.layers import rows
from ublet.session.picture import PictureError
from ublet.session.session import Session

CANNOT = "cannot"
"""Figure of a trial that the linked board lacks something for."""


def standings(session: Session) -> Mapping[str, StationState]:
    """All stations by name."""
    return {station.name: standing(session, station) for station in ROUTE}


def standing(session: Session, station: Station) -> StationState:
    """Where one station stands."""
    declared = DECLARED.get(station.bench)
    return declared(session) if declared else _tried(session, station)


def _file(session: Session) -> StationState:
    draft = session.draft
    errors = draft.checked.errors
    if errors:
        return StationState("failed", counted(len(errors), "error"), errors[0].sentence(draft.document.path.name))
    if session.disk_trouble:
        return StationState("failed", "disk", f"on the disk: {session.disk_trouble}")
    if draft.dirty:
        count = len(draft.changes())
        return StationState("open", counted(count, "edit"), "edited, not yet written to the file")
    warnings = len(draft.checked.problems)
    figure = counted(warnings, "warning") if warnings else "good"
    return StationState("proven", figure, f"{len(draft.document.values)} settings, no errors")


def _wiring(session: Session) -> StationState:
    draft = session.draft
    wrong = [p for p in draft.checked.errors if p.key.endswith("socket")]
    if wrong:
        return StationState("failed", f"{len(wrong)} wrong", wrong[0].sentence(draft.document.path.name))
    board = session.document.board
    used = sum(1 for path, value in session.document.values.items() if path.endswith("socket") and value is not None)
    return StationState("proven", f"{used} of {len(board.sockets)}", f"{used} of {len(board.sockets)} sockets in use")


def _modules(session: Session) -> StationState:
    try:
        _, plan = session.document.image()
    except (ImageError, PictureError) as error:
        return StationState("failed", "no image", str(error))
    fraction = 100 * plan.used_bytes / plan.slot_bytes
    if plan.overflow_bytes:
        return StationState("failed", f"{fraction:.0f} %", f"overflows by {plan.overflow_bytes:,} bytes")
    return StationState("proven", f"{fraction:.0f} %", f"{plan.used_bytes:,} of {plan.slot_bytes:,} bytes")


def _written(session: Session) -> StationState:
    if not session.connection.linked:
        return StationState("waiting", "no board", "the board is not linked")
    try:
        planned = session.plan_write()
    except (ImageError, PictureError) as error:
        return StationState("failed", "no image", str(error))
    takes_image = "image" in session.connection.can
    if planned.refused and takes_image:
        return StationState("failed", "refused", planned.refused)
    layer_rows = rows(session.document, session.connection)
    shadowed = sum(1 for row in layer_rows if row.shadowed)
    made_up_for = {row.path for row in layer_rows if row.on_board and not row.outdated}
    count = sum(1 for change in planned.changes if change.path not in made_up_for)
    if count or planned.modules_added or planned.modules_removed:
        figure = f"{count} differ" if count else "modules"
        if count:
            what = f"differs in {counted(count, 'setting')}"
        elif len(planned.modules_added) == len(planned.image.modules):
            what = "names none of its modules"
        elif planned.modules_added:
            what = f"lacks: {', '.join(planned.modules_added)}"
        else:
            what = f"has modules to spare: {', '.join(planned.modules_removed)}"
        return StationState("stale", figure, f"the board's image {what}")
    if shadowed and not takes_image:
        what = "the board's values are not the file's: write them one by one (it takes no image)"
        return StationState("stale", f"{shadowed} differ", what)
    if shadowed:
        return StationState("stale", f"{shadowed} shadowed", f"{shadowed} stored values hide the file's")
    return StationState("proven", "same", "the board runs what the file says")


def _linked(session: Session) -> StationState:
    client = session.connection.client
    if client is None or not session.connection.linked:
        return StationState("open", "no board", session.connection.why)
    trip = f"{1000 * client.quality.round_trip_s:.0f} ms"
    return StationState("proven", trip, f"linked, {client.quality.bad_sums} spoilt lines")


def _presets(session: Session) -> StationState:
    machine = session.document.machine
    hot = [name for name in machine.heaters if session.connection.channel(f"heaters.{name}.target_c") is not None]
    if hot and session.runner.running is None:
        return StationState("running", "heating")
    count = len(machine.materials)
    return StationState("proven" if count else "open", counted(count, "preset"), "the file's materials")


def _recorded(session: Session) -> StationState:
    count = session.ledger.run_count
    if session.ledger.waiting:
        return StationState("failed", "not written", "the ledger could not be written: make room on the disk")
    return StationState("proven" if count else "open", counted(count, "run"), "every run is kept")


def _looked_back(session: Session) -> StationState:
    if not session.ledger.run_count:
        return StationState("waiting", "", "nothing was done on this machine yet", idle=True)
    return StationState("proven", "", "whenever it is wanted")


def _tried(session: Session, station: Station) -> StationState:
    """A station of trials: the newest of each trial and its check decides, and the worst of the trials counts."""
    if session.runner.running is not None and session.runner.running.name in station.trials:
        return StationState("running")
    checks = {TRIALS[name].verify for name in station.trials} - set(_self_checking(station))
    machine = session.document.machine
    idle = {name: TRIALS[name].idle(machine) for name in station.trials}
    if all(idle.values()):
        return StationState("waiting", "no need", next(iter(idle.values())), idle=True)
    states = [
        _of_trial(_trial_standing(session, name, heater), name, heater)
        for name in station.trials
        if name not in checks and not idle[name]
        for heater in TRIALS[name].heaters(machine) or (None,)
    ]
    if all(standing.figure == CANNOT for standing in states):
        # what this machine need not do, as a rule, is what is left where the board cannot do the rest
        instead = [_of_trial(_trial_standing(session, name, None), name, None) for name, words in idle.items() if words]
        states = [standing for standing in instead if standing.figure != CANNOT] or states
    for state in ("failed", "stale", "open"):
        wanted = [standing for standing in states if standing.state == state]
        if wanted:
            done = sum(1 for standing in states if standing.state == "proven")
            return replace(wanted[0], figure=f"{done} of {len(states)}") if done and state == "open" else wanted[0]
    return next((standing for standing in states if not TRIALS[standing.trial].prepares), states[0])


def _self_checking(station: Station) -> tuple[str, ...]:
    return tuple(name for name in station.trials if TRIALS[name].verify == name)


def _trial_standing(session: Session, name: str, heater: str | None) -> StationState:
    check = TRIALS[name].verify
    names = (name,) if check in (None, name) else (name, str(check))
    subject = {"heater": heater} if heater is not None else {}
    entries = [session.ledger.concluded(name, subject) for name in names]
    entry = max((entry for entry in entries if entry is not None), key=lambda state: state.id, default=None)
    if entry is None:
        lacking = lacking_words(TRIALS[name].uses(session.document.machine), session.connection.can)
        missing = bool(lacking) and session.connection.linked
        return StationState("waiting", CANNOT, lacking) if missing else StationState("open")
    if entry.result.outcome != "proven":
        return StationState("failed", "failed", entry.result.why)
    if reasons := session.presence.reasons(entry.rests):
        return StationState("stale", "stale", "; ".join(reasons))
    if lost := session.lost_kept(entry):
        reason = "; ".join(f"{path} {shown_value(value)} was kept, never saved" for path, value in lost.items())
        return StationState("stale", "not live", f"{reason}, and is live no more: keep it again, and save")
    if entry.name != names[-1]:
        live = any(_is_live(session, option, entry.result.recommended) for option in entry.result.options)
        reason = "what was tuned is live, not yet verified" if live else "tuned, not yet kept and verified"
        # a heater's bench checks by a key of its own; elsewhere the check is the trial that comes next
        return StationState("open", "unverified", reason, trial=names[-1] if live and heater is None else "")
    seen = session.presence.as_of
    reason = f"as of the last link ({seen}): {entry.result.why}" if seen else entry.result.why
    figure = TRIALS[entry.name].figure(entry.result)
    if cold := cold_words(session.document.machine, entry.result.conditions):
        figure, reason = f"cold {figure.removesuffix(' mm')}", f"{cold}. {reason}"
    return StationState("proven", figure, reason, bool(seen))


def _of_trial(standing: StationState, name: str, heater: str | None) -> StationState:
    """With the trial that it is about: what would be done next."""
    return replace(standing, trial=standing.trial or name, heater=heater or "")


def _is_live(session: Session, option: Option, recommended: str) -> bool:
    """Whether a tuning's proposals are live; one that proposes to leave all as it is only where that is recommended."""
    if not option.proposals:
        return option.name == recommended
    return all(session.live(proposal.setting) == proposal.after for proposal in option.proposals)


DECLARED: Mapping[str, Callable[[Session], StationState]] = {
    "editor": _file,
    "wiring": _wiring,
    "modules": _modules,
    "write": _written,
    "port": _linked,
    "control": _presets,
    "ledger": _recorded,
    "compare": _looked_back,
    "restore": _looked_back,
    "report": _looked_back,
}
"""Stations that no trial decides, by their bench."""
