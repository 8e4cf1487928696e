"""What is done at the machine by keys: motors off, filament, the probe's pin, a touch; each with why it cannot be."""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from dataclasses import dataclass

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical
from textual.widgets import Static

from ublet.core.trouble import Trouble
from ublet.session import manual
from ublet.session.materials import loaded_material
from ublet.session.session import Session
from ublet.tui.frame.dialogs import Dialog
from ublet.tui.frame.theme import Ink

REFRESH_S = 0.5


@dataclass(frozen=True)
class Deed:
    """One thing that a key does: its words, why it is not possible now (empty: it is), and doing it."""

    key: str
    words: str
    detail: str
    refused: str
    do: Callable[[], Awaitable[str]]


class ByHandDialog(Dialog):
    """A sheet of keys. One thing at a time; escape stops what moves, then closes."""

    BINDINGS = [
        *(Binding(key, f"do('{key}')", show=False) for key in ("m", "f", "b", "l", "u", "g", "h", "o", "d", "p", "t")),
        Binding("n", "material", "next material", show=False),
        Binding("escape", "leave", "close", show=False, priority=True),
    ]

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.material = loaded_material(session)
        self.said = Text()
        self.doing = ""

    def compose(self) -> ComposeResult:
        """Heading, the keys, what was done last."""
        with Vertical():
            yield Static(Text("By hand, at the machine", "bold"))
            yield Static(id="deeds")
            yield Static(id="said")
            yield Static("F8 halts everything    esc stops what moves, then closes", classes="keys")

    def on_mount(self) -> None:
        """Keep what is possible up to date."""
        self.set_interval(REFRESH_S, self._show)
        self._show()

    def deeds(self) -> list[Deed]:
        """Every key, as things are now."""
        session, material, machine = self.session, self.material, self.session.machine_now
        busy = manual.why_not(session)
        cold = busy or manual.why_cold(session, material)
        known = [axis.upper() for axis in "xyz" if session.connection.channel(f"axes.{axis}.mm") is not None]
        loses = f"{', '.join(known)} will not know where they stand" if known else "no axis is homed now"
        deeds = [Deed("m", "motors off", loses, busy, lambda: manual.motors_off(session))]
        try:
            far = manual.filament_moves(machine)
        except manual.NotNow:
            far = None
        if far is not None:
            step = manual.STEP_MM
            warm = machine.materials[material].nozzle_c if material else 0.0
            deeds += [
                Deed(
                    "h",
                    "heat the nozzle",
                    f"{warm:g} °C for {material or 'no material'}",
                    busy,
                    lambda: manual.warm_nozzle(session, material),
                ),
                Deed("f", "push filament", f"{step:g} mm", cold, lambda: manual.move_filament(session, material, step)),
                Deed("b", "pull it back", f"{step:g} mm", cold, lambda: manual.move_filament(session, material, -step)),
                Deed(
                    "l",
                    "load",
                    f"{far.load_mm:g} mm, the last of it slowly",
                    cold,
                    lambda: manual.load(session, material),
                ),
                Deed("u", "unload", f"{far.unload_mm:g} mm", cold, lambda: manual.unload(session, material)),
                Deed("g", "purge", f"{far.purge_mm:g} mm", cold, lambda: manual.purge(session, material)),
                Deed("o", "heat off", "every heater and fan", busy, self._off),
            ]
        probe = machine.probe
        if probe is not None and probe.kind == "pin":
            deeds += [
                Deed("d", "pin down", "", busy, lambda: manual.move_pin(session, True)),
                Deed("p", "pin up", "", busy, lambda: manual.move_pin(session, False)),
            ]
        if probe is not None and probe.kind != "nozzle":
            unhomed = busy or ("" if session.connection.channel("axes.z.mm") is not None else "Z is not homed")
            deeds.append(
                Deed("t", "touch here", "down to the bed, and up again", unhomed, lambda: manual.touch_here(session))
            )
        return deeds

    async def _off(self) -> str:
        unconfirmed = await self.session.runner.all_off()
        return "Every heater and fan is off." if not unconfirmed else f"It is not confirmed: {unconfirmed}."

    def _show(self) -> None:
        text = Text("\n")
        for deed in self.deeds():
            off = bool(deed.refused or self.doing)
            text.append(f" {deed.key}  ", Ink.quiet if off else Ink.focus)
            text.append(f"{deed.words:<18}", Ink.dim if off else Ink.text)
            text.append(f"{deed.detail}", Ink.dim)
            text.append(f"   ✗ {deed.refused}\n" if deed.refused else "\n", Ink.stop)
        if self.material:
            text.append("\n n  ", Ink.focus)
            text.append(f"filament is {self.material}", Ink.text)
            text.append("   the next material\n", Ink.dim)
        self.query_one("#deeds", Static).update(text)
        said = Text(f"◆ {self.doing} …", Ink.focus) if self.doing else self.said
        self.query_one("#said", Static).update(said)

    def action_material(self) -> None:
        """The next material."""
        names = list(self.session.machine_now.materials)
        if self.material in names and not self.doing:
            self.material = names[(names.index(self.material) + 1) % len(names)]
            self._show()

    def action_do(self, key: str) -> None:
        """Do what a key is for; what cannot be done says why."""
        deed = next((deed for deed in self.deeds() if deed.key == key), None)
        if deed is None or self.doing:
            return
        if deed.refused:
            self.said = Text().append(f"✗ {deed.words}: {deed.refused}.", Ink.stop)
            self._show()
            return
        self.doing = deed.words
        self._show()
        self.run_worker(self._do(deed), group="by hand", exclusive=True)

    async def _do(self, deed: Deed) -> None:
        try:
            self.said = Text().append(f"✓ {await deed.do()}", Ink.good)
        except Trouble as error:
            self.said = Text().append(f"✗ {error}", Ink.stop)
        self.doing = ""
        self._show()

    def action_leave(self) -> None:
        """Stop what moves; close when nothing does."""
        if self.doing:
            self.run_worker(self.session.runner.all_off(), group="stop")
        else:
            self.close_with(None)
