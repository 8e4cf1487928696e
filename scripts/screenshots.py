"""Photograph the demo at 1280 x 800 in a real terminal: ``screenshots.py FOLDER``.

Drives the app with keys through tmux, shows it in xterm on a virtual screen, and takes pictures.
Needs tmux, xvfb, xterm and imagemagick (Debian packages).
"""

from __future__ import annotations

import math
import os
import re
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from ublet.benchmark.wired import well_wired
from ublet.session.demo import prepare

NEEDED = {"tmux": "tmux", "Xvfb": "xvfb", "xterm": "xterm", "import": "imagemagick"}
COLUMNS, ROWS = 160, 47


class Stage:
    """The app in a terminal window on a virtual screen."""

    def __init__(self, command: list[str], columns: int = COLUMNS, rows: int = ROWS) -> None:
        self.folder = Path(tempfile.mkdtemp(prefix="ublet-shots-"))
        conf = self.folder / "conf"
        conf.write_text(
            "set -g status off\nset -g default-terminal tmux-256color\nset -s escape-time 0\n"
            "set -ga terminal-overrides ',*:RGB'\n",
            encoding="utf-8",
        )
        self.tmux = ["tmux", "-S", str(self.folder / "socket"), "-f", str(conf)]
        size = ["-x", str(columns), "-y", str(rows)]
        kept = {f"XDG_{kind}_HOME": str(self.folder / kind) for kind in ("STATE", "CONFIG", "DATA")}
        env = {**os.environ, **kept, "COLORTERM": "truecolor"}
        preferences = self.folder / "CONFIG" / "ublet" / "preferences.toml"
        preferences.parent.mkdir(parents=True)
        preferences.write_text("ask_unmet = false\n", encoding="utf-8")  # it begins in the middle of the route
        subprocess.run([*self.tmux, "new-session", "-d", "-s", "shots", *size, *command], check=True, env=env)
        read_end, write_end = os.pipe()
        screen = f"{columns * 8}x{rows * 17 + 1}x24"
        self.screen = subprocess.Popen(
            ["Xvfb", "-displayfd", str(write_end), "-screen", "0", screen, "-nolisten", "tcp"],
            pass_fds=[write_end],
            stderr=subprocess.DEVNULL,
        )
        os.close(write_end)
        with os.fdopen(read_end) as numbers:
            self.display = f":{numbers.readline().strip()}"
        look = ["-fa", "DejaVu Sans Mono", "-fs", "10", "-geometry", f"{columns}x{rows}+0+0", "-b", "0", "-bw", "0"]
        self.window = subprocess.Popen(
            ["xterm", *look, "+sb", "-bg", "black", "-e", *self.tmux, "attach", "-t", "shots"],
            env={**os.environ, "DISPLAY": self.display, "LC_ALL": "C.UTF-8"},
            stderr=subprocess.DEVNULL,
        )

    def wait(self, text: str, timeout: float = 240) -> None:
        """Wait until a text is on the screen."""
        end = time.monotonic() + timeout
        while text not in self.text():
            if time.monotonic() > end:
                raise SystemExit(f"“{text}” did not appear; the screen was:\n{self.text()}")
            time.sleep(0.2)

    def text(self) -> str:
        """The screen as text."""
        shown = subprocess.run([*self.tmux, "capture-pane", "-p", "-t", "shots"], capture_output=True, text=True)
        return shown.stdout

    def key(self, *names: str) -> None:
        """Press keys."""
        for name in names:
            subprocess.run([*self.tmux, "send-keys", "-t", "shots", name], check=True)
            time.sleep(0.4)

    def shot(self, path: Path) -> None:
        """Take a picture."""
        time.sleep(1.0)
        subprocess.run(["import", "-display", self.display, "-window", "root", str(path)], check=True)
        print(path)

    def close(self) -> None:
        """End everything."""
        subprocess.run([*self.tmux, "kill-server"], capture_output=True)
        for process in (self.window, self.screen):
            process.terminate()
            process.wait()
        shutil.rmtree(self.folder, ignore_errors=True)


def declare(stage: Stage, out: Path) -> None:
    """The leg Declare: editor, wiring, modules, and writing until every layer agrees."""
    stage.wait("4 differ")
    stage.key("Enter", "/")
    stage.wait("Search every")
    stage.key("f", "e", "e", "d", "Space", "a", "x", "e", "s", ".", "z")
    stage.wait("axes.z.maximum_feed")
    stage.key("Enter")
    time.sleep(1)
    stage.key("Tab", "Down")
    stage.wait("21 used")
    stage.key("Enter", "Right")
    stage.shot(out / "wiring.png")
    stage.key("Tab", "Down")
    stage.wait("fits")
    stage.key("Enter", "Down", "Down", "Down", "Down")
    stage.key("Tab", "Down")
    stage.wait("settings change")
    stage.key("Enter", "Enter")
    stage.wait("This would change")
    stage.key("Enter")
    stage.wait("checked by its digest")
    stage.key("Space")
    stage.key("A", "Enter")
    stage.wait("Settle these")
    stage.key("Enter")
    stage.wait("Every layer agrees")
    stage.key("Tab", "PPage")


def wire(stage: Stage, out: Path) -> None:
    """A switch held by hand; an axis that went another way than it was told."""
    stage.key("NPage", "Down")
    stage.wait("You press each of 3 switches")
    stage.key("Enter", "Enter")
    stage.wait("Press the X endstop")
    stage.key("1")
    stage.wait("x is pressed")
    stage.key("1", "Escape")
    stage.wait("Cancelled by you")
    stage.key("Tab", "NPage")
    stage.wait("Moves X, then Y, then Z")
    stage.key("Enter", "Enter")
    stage.wait("the nozzle went: back")
    stage.key("Escape")
    stage.wait("Cancelled by you")
    stage.key("Tab", "PPage", "PPage")


def move(out: Path) -> None:
    """Jogging to scale, a length that is measured, and speeds that are tried, on the second machine."""
    with tempfile.TemporaryDirectory(prefix="ublet-demo-") as folder:
        stage = Stage([sys.executable, "-m", "ublet", "demo", "--machine", "wren", "--dir", folder, "--speed", "10"])
        try:
            stage.wait("no errors")
            stage.key("NPage", "NPage", "Down", "Down")
            stage.wait("from above")
            stage.key("Enter", "h")
            stage.wait("Every axis is homed")
            stage.key("x", *"120", "Space", *"y70", "Space", *"z40", "Enter")
            stage.wait("Z 40.0")
            stage.key("Tab", "Down")
            stage.wait("Homes axes not yet homed")
            stage.key("Enter", "Enter")
            for reading in ("79.04", "78.97"):
                stage.wait("Mark where X")
                stage.key("Enter")
                stage.wait("How far did X go")
                stage.key(*reading, "Enter")
            stage.wait("3 of 3")
            stage.key("Enter")
            stage.wait("How far did X go")
            stage.key("Escape", "Tab", "Down")
            stage.wait("Homes, then runs there and back")
            stage.key("Enter", "Enter")
            stage.wait("lost steps")
            stage.wait("1875")
            stage.key("Escape")
            extrude(stage, out)
            stage.key("C-q")
        finally:
            stage.close()


def extrude(stage: Stage, out: Path) -> None:
    """A program before it runs and while it does, and filament that is measured."""
    stage.wait("Cancelled by you")
    stage.key("C-p", *"test", "Space", *"piece")
    stage.wait("Go to test piece")
    stage.key("Enter")
    stage.wait("by live settings")
    stage.key("p", *"side_mm=100", "Space", *"rounds=6", "Enter")
    stage.wait("a square of 100 mm")
    stage.key("Enter")
    stage.wait("square 1 of 6, ")
    stage.key("1", "1")
    stage.wait("square 4 of 6, ")
    stage.key("3")
    stage.wait("held: it stands")
    stage.key("7")
    stage.wait("not finished")
    stage.key("C-p", *"extruder", "Space", *"steps")
    stage.wait("Go to extruder steps")
    stage.key("Enter")
    stage.wait("you measure the")
    stage.key("Enter")
    stage.wait("Is pla loaded")
    stage.key("Enter")
    for left in ("41.5", "42.2"):
        stage.wait("before it goes in, by the rule")
        stage.key("Enter")
        stage.wait("How far is the first mark")
        stage.key(*"gone", "Enter")
        stage.wait("How far is the second mark")
        stage.key(*left, "Enter")
    stage.wait("3 of 3")
    stage.key("Enter")
    stage.wait("How far is the first mark")
    stage.key("Escape", "Escape")


def level(out: Path) -> None:
    """Lifts, a screw to be turned, the nozzle over a gauge, meshes and a first layer; on a well-wired machine."""
    with tempfile.TemporaryDirectory(prefix="ublet-demo-") as folder:
        _, scenario = prepare("tern", Path(folder))
        scenario.write_text(well_wired(scenario.read_text(encoding="utf-8")), encoding="utf-8")
        stage = Stage([sys.executable, "-m", "ublet", "demo", "--dir", folder, "--speed", "30"])
        try:
            stage.wait("no errors")
            to(stage, "lead", "screws")
            stage.wait("3 lifts with their pivots")
            stage.key("Enter")
            stage.wait("Which side did otherwise")
            stage.key("Enter")
            stage.wait("Level over the lifts")
            to(stage, "bed", "corners")
            stage.wait("3 screws declared")
            stage.key("Enter")
            stage.wait("springs of the screws")
            stage.key("s")
            stage.wait("half pressed")
            stage.key("Enter")
            stage.wait("Turn the screw")
            stage.shot(out / "corners.png")
            stage.key("s")
            stage.wait("Stopped before the bed")
            to(stage, "Z", "offset")
            stage.wait("hot, as one prints")
            stage.key("Enter")
            stage.wait("Lay the gauge")
            stage.key("-", "1", "Enter")
            stage.wait("Z 2.")
            stage.key("s")
            stage.wait("the offset stays as it was")
            to(stage, "bed", "mesh")
            stage.wait("7 x 7 points")
            stage.key("Enter")
            stage.wait("from lowest to highest", 600)
            stage.shot(out / "mesh.png")
            stage.key("k")
            layer(stage, out)
            stage.key("C-q")
        finally:
            stage.close()


def layer(stage: Stage, out: Path) -> None:
    """A first layer that is nudged while it is printed, and judged."""
    to(stage, "first", "layer")
    stage.wait("5 places")
    stage.key("Enter")
    stage.wait("wipe it")
    stage.key("Enter")
    stage.wait("printing now: middle", 600)
    stage.key("1", "1", "2")
    stage.wait("printing now: right front", 600)
    stage.shot(out / "layer-running.png")
    stage.wait("Feel the last lines", 600)
    stage.key(*"1", "Space", *"2", "Space", *"2", "Space", *"2", "Space", *"3", "Enter")
    stage.wait("starts again")


def shake(out: Path) -> None:
    """Where a sensor sits, a sweep as it grows, belts, shapers, ringing before and after."""
    with tempfile.TemporaryDirectory(prefix="ublet-demo-") as folder:
        stage = Stage([sys.executable, "-m", "ublet", "demo", "--machine", "wren", "--dir", folder, "--speed", "12"])
        try:
            stage.wait("no errors")
            to(stage, "accelerometer")
            stage.wait("Listens for")
            stage.shot(out / "place.png")
            stage.key("C-q")
        finally:
            stage.close()
    with tempfile.TemporaryDirectory(prefix="ublet-demo-") as folder:
        _, scenario = prepare("tern", Path(folder))
        scenario.write_text(well_wired(scenario.read_text(encoding="utf-8")), encoding="utf-8")
        stage = Stage([sys.executable, "-m", "ublet", "demo", "--dir", folder, "--speed", "12"])
        try:
            stage.wait("no errors")
            to(stage, "resonance")
            stage.wait("both diagonals")
            stage.key("p", *"seconds=30", "Enter", "Enter")
            stage.wait("Which side did otherwise")
            stage.key("Enter")
            stage.wait("Tighten belt B", 600)
            stage.shot(out / "belts.png")
            stage.key("Enter")
            stage.wait("Both belts pull alike", 600)
            stage.key("o")
            stage.wait("then sweeps X and Y")
            stage.key("Enter")
            stage.wait("sweep 2/2, at 5", 600)
            stage.wait("sweep 2/2, at 7", 600)
            stage.shot(out / "sweep.png")
            stage.wait("X rings most", 600)
            to(stage, "input", "shaper")
            stage.wait("Computes which")
            stage.key("Enter")
            stage.wait("recommended")
            stage.key("Down", "Down")
            stage.wait("▸✓ zvd")
            stage.shot(out / "shaper.png")
            stage.key("Up", "Up", "k")
            stage.wait("Live on the board")
            stage.key("o")
            stage.wait("with sharp stops")
            stage.key("Enter")
            stage.wait("of the ringing is left", 600)
            stage.shot(out / "ringing.png")
            stage.key("C-q")
        finally:
            stage.close()


def vase() -> str:
    """A print text of a round vase: one wall, 60 layers, in the standard's words."""
    lines = ["(a vase of one wall)", "G21 G90", "G92 E0"]
    for layer in range(60):
        radius = 30 + 9 * math.sin(layer / 11)
        lines.append(f"G0 Z{0.2 + 0.25 * layer:.2f} F600")
        lines.append("G92 E0")
        for step in range(73):
            turn = 2 * math.pi * step / 72
            x, y = 120 + radius * math.cos(turn), 115 + radius * math.sin(turn)
            pushed = f" E{0.033 * radius / 72 * 6.28 * step:.4f} F2400" if step else " F6000"
            lines.append(f"G{1 if step else 0} X{x:.3f} Y{y:.3f}{pushed}")
    return "\n".join(lines) + "\n"


def together(pictures: list[Path], path: Path) -> None:
    """An even number of pictures as one, in two rows; the single ones go."""
    half = len(pictures) // 2
    first, second = pictures[:half], pictures[half:]
    rows = ["(", *map(str, first), "+append", ")", "(", *map(str, second), "+append", ")"]
    subprocess.run(["convert", *rows, "-append", str(path)], check=True)
    for picture in pictures:
        picture.unlink()
    print(path)


def drawings(stage: Stage, out: Path) -> None:
    """What the editor draws of an axis, a heater, the bed and a shaper."""
    stage.key("Enter")
    pictures = []
    for setting in ("minimum_mm", "power_limit", "width_mm", "shaper"):
        stage.key("/")
        time.sleep(0.7)
        stage.key(*setting, "Enter")
        pictures.append(out / f"drawing-{setting}.png")
        stage.shot(pictures[-1])
    together(pictures, out / "drawings.png")


def filament(out: Path) -> None:
    """The leg Extrude: lines while they print and as they are picked, flow, posts."""
    with tempfile.TemporaryDirectory(prefix="ublet-demo-") as folder:
        command = [
            sys.executable,
            "-m",
            "ublet",
            "demo",
            "--ready",
            "--machine",
            "wren",
            "--dir",
            folder,
            "--speed",
            "40",
        ]
        stage = Stage(command)
        pictures = [out / f"filament-{name}.png" for name in ("flow", "lines", "pick", "posts")]
        try:
            stage.wait("no errors")
            to(stage, "flow", "limit")
            stage.wait("5 % short")
            stage.key("b")
            _push(stage)
            stage.shot(pictures[0])
            to(stage, "advance")
            stage.wait("too high")
            stage.key("b")
            stage.wait("wipe it")
            stage.key("Enter")
            stage.wait("line 1", 600)
            stage.shot(pictures[1])
            stage.wait("Which line is even?", 600)
            stage.key("1", "0", "-", "1", "3")
            stage.shot(pictures[2])
            stage.key("Enter")
            stage.wait("That makes")
            stage.key("Enter")
            stage.wait("Pressure advance of")
            to(stage, "retraction")
            stage.wait("pairs")
            stage.key("b")
            stage.wait("wipe it")
            stage.key("Enter")
            stage.wait("Look between", 600)
            stage.key(*"2 2 1 1 1 1 1 3 3 3".replace(" ", ","), "Enter")
            stage.wait("Shortest clean")
            stage.shot(pictures[3])
            together(pictures, out / "filament.png")
        finally:
            stage.close()


def pieces(out: Path) -> None:
    """The leg Extrude, what is printed in height and what belongs together: tower, materials, drive, cube."""
    with tempfile.TemporaryDirectory(prefix="ublet-demo-") as folder:
        command = [sys.executable, "-m", "ublet", "demo", "--ready", "--dir", folder, "--speed", "40"]
        stage = Stage(command)
        names = ("tower", "tower-pick", "materials", "drive", "looks", "judged")
        pictures = [out / f"pieces-{name}.png" for name in names]
        try:
            stage.wait("no errors")
            to(stage, "advance")
            stage.wait("too high")
            stage.key("o")
            stage.key("o")
            stage.wait("a notch every 5 mm")
            stage.key("b")
            stage.wait("wipe it")
            stage.key("Enter")
            stage.wait("height 15 mm", 300)
            stage.shot(pictures[0])
            stage.wait("At which height", 300)
            stage.key("1", "2", "-", "1", "5")
            stage.shot(pictures[1])
            stage.key("Enter")
            stage.wait("That makes")
            stage.key("Enter")
            stage.wait("Pressure advance of")
            stage.key("k")
            stage.wait("Live on the board")
            stage.key("F5")
            stage.wait("found by run")
            stage.shot(pictures[2])
            stage.key("Escape")
            to(stage, "extruder", "steps")
            stage.key("o")
            stage.wait("Change of drive")
            stage.key("p", *"tube_mm=400", "Enter")
            stage.wait("400 mm of tube")
            stage.shot(pictures[3])
            to(stage, "test", "piece")
            stage.wait("by live settings")
            stage.key("o")
            stage.wait("hollow cube")
            stage.key("p", *"size_mm=15", "Enter")
            stage.wait("cube of 15 mm")
            stage.key("b")
            stage.wait("wipe it")
            stage.key("Enter")
            stage.wait("Let it cool", 600)
            _measure(stage)
            stage.shot(pictures[4])
            stage.key(*"2,1,1,1,1,1,1", "Enter")
            stage.wait("It has ghosts")
            stage.shot(pictures[5])
            together(pictures, out / "pieces.png")
        finally:
            stage.close()


def record(out: Path) -> None:
    """The leg Record, on a machine that was commissioned: a trend, two states, what a restore does, what to do
    again.
    """
    from ublet.session.commissioning import commission
    from ublet.session.library import scenario_path

    with tempfile.TemporaryDirectory(prefix="ublet-demo-") as folder:
        machine = Path(folder) / "wren-180.toml"
        commission(scenario_path("wren-180"), 1, lambda progress: None, machine)
        _creeping(machine)
        stage = Stage([sys.executable, "-m", "ublet", "open", str(machine)])
        names = ("trend", "compare", "restore", "again")
        pictures = [out / f"record-{name}.png" for name in names]
        try:
            stage.wait("no errors")
            stage.key("l")
            stage.wait("newest first")
            stage.key("/", *"z-offset", "Enter")
            stage.wait("creeps")
            stage.shot(pictures[0])
            stage.key("Escape", "/", *"travel-limits", "Enter")
            stage.wait("with travel-limits")
            stage.key("c")
            stage.wait("run 7")
            stage.shot(pictures[1])
            stage.key("l", "R")
            stage.wait("becomes stale")
            stage.shot(pictures[2])
            stage.key("F3")
            stage.wait("What happened")
            stage.shot(pictures[3])
            together(pictures, out / "record.png")
        finally:
            stage.close()


def dialect(out: Path) -> None:
    """A board that speaks plain words: its port, two layers only, guards that were not tried yet, what is said."""
    import json

    from ublet.session.library import machine_path, scenario_path

    with tempfile.TemporaryDirectory(prefix="ublet-demo-") as folder:
        machine = Path(folder) / "machine.toml"
        text = machine_path("wren-180").read_text(encoding="utf-8")
        machine.write_text(
            text.replace("kp = 0.05\n", "kp = 0.08\n").replace("kp = 0.06\n", "kp = 0.09\n"), encoding="utf-8"
        )
        words = [
            "board",
            "--scenario",
            str(scenario_path("wren-180")),
            "--dialect",
            "moss",
            "--listen",
            "tcp:localhost:0",
        ]
        board = subprocess.Popen([sys.executable, "-m", "ublet", *words], stdout=subprocess.PIPE, text=True)
        assert board.stdout is not None
        port = json.loads(board.stdout.readline())["port"]
        command = [sys.executable, "-m", "ublet", "open", str(machine), "--port", port, "--dialect", "moss"]
        stage = Stage(command)
        pictures = [out / f"dialect-{name}.png" for name in ("port", "write", "guards", "talk")]
        try:
            stage.wait("2 differ")
            to(stage, "port")
            stage.wait("in the language moss")
            time.sleep(20)
            stage.shot(pictures[0])
            to(stage, "write")
            stage.wait("differ from the file")
            stage.shot(pictures[1])
            to(stage, "guards")
            stage.wait("the board speaks moss")
            stage.shot(pictures[2])
            stage.key("w")
            stage.wait("newest first")
            stage.shot(pictures[3])
            together(pictures, out / "dialect.png")
        finally:
            stage.close()
            board.terminate()


def _creeping(machine: Path) -> None:
    """Eleven later runs of the Z offset on made-up evenings, in which it creeps."""
    from dataclasses import replace

    from ublet.ledger.book import Ledger
    from ublet.ledger.entries import Opening
    from ublet.session.session import ledger_path

    ledger = Ledger(ledger_path(machine), threaded=False)
    entry = ledger.latest("z-offset", "proven")
    assert entry is not None
    for number in range(11):
        at = f"2026-12-{number + 2:02d}T18:0{number % 10}:00.000+00:00"
        value = entry.result.findings[0].value + 0.012 * (number + 1) + 0.007 * math.sin(5 * number)
        findings = (replace(entry.result.findings[0], value=value, uncertainty=0.009), *entry.result.findings[1:])
        live = ledger.opening(ledger.run_count)["live"]
        recorded = ledger.open_run(Opening(at, entry.name, entry.station, entry.parameters, live=live))
        recorded.end(replace(entry.result, findings=findings, options=()), entry.duration_s, entry.rests)
    ledger.close()


def _measure(stage: Stage) -> None:
    """Type what callipers show of a cube until its looks are asked for."""
    end, before = time.monotonic() + 120, ""
    while "what do you see" not in (shown := stage.text()):
        if time.monotonic() > end:
            raise SystemExit(f"no looks; the screen was:\n{shown}")
        asked = re.search(r"Measure .* reading \d", " ".join(shown.split()))
        read = re.search(r"callipers: ([\d.]+) mm", shown)
        if asked is not None and read is not None and asked[0] != before:
            before = asked[0]
            stage.key(*read[1], "Enter")
        time.sleep(0.3)


def _push(stage: Stage) -> None:
    """Answer what is asked while filament is pushed, reading what is seen at the machine, until there is a limit."""
    end = time.monotonic() + 240
    while "5 % falls short at" not in (shown := stage.text()):
        if time.monotonic() > end:
            raise SystemExit(f"no limit; the screen was:\n{shown}")
        read = re.search(r"left on the [a-z]+: ([\d.]+) mm", shown)
        if read is not None and "How far is the" in shown:
            stage.key(*read[1], "Enter")
        elif "the mark is gone" in shown and "How far is the" in shown:
            stage.key("g", "Enter")
        elif "Mark it" in shown or "Is pla loaded" in shown:
            stage.key("Enter")
        time.sleep(0.3)


def ready(out: Path) -> None:
    """On a demonstration that is ready: parameters as a form, what is done by hand, a print of one's own."""
    with tempfile.TemporaryDirectory(prefix="ublet-demo-") as folder:
        text = Path(folder) / "vase.gcode"
        text.write_text(vase(), encoding="ascii")
        command = [sys.executable, "-m", "ublet", "demo", "--ready", "--dir", f"{folder}/demo", "--speed", "30"]
        stage = Stage(command)
        try:
            stage.wait("no errors")
            drawings(stage, out)
            to(stage, "bed", "mesh")
            stage.wait("no mesh is live")
            stage.key("p", "Down", "Down", "Down", "Enter")
            stage.wait("Parameters of bed mesh")
            stage.shot(out / "parameters.png")
            stage.key("Escape", "F4")
            stage.wait("By hand, at the machine")
            stage.key("h")
            stage.wait("10 mm\n", 600)
            stage.key("l")
            stage.wait("Loaded:", 600)
            stage.key("m")
            stage.wait("Motors off: carriages")
            stage.key("o")
            stage.wait("Every heater and fan is off")
            stage.key("Escape")
            to(stage, "test", "piece")
            stage.wait("by live settings")
            stage.key("f", *str(text), "Enter")
            stage.wait(" 1 of 60")
            stage.key("Enter")
            stage.wait("wipe it", 900)
            stage.key("Enter")
            stage.wait("layer 12 of 60", 900)
            stage.shot(out / "print.png")
            stage.key("Escape", "C-q")
        finally:
            stage.close()


def to(stage: Stage, *words: str) -> None:
    """Go to a station by the palette."""
    keys: list[str] = []
    for word in words:
        keys += [*([] if not keys else ["Space"]), *word]
    stage.key("C-p", *keys)
    stage.wait(f"Go to {' '.join(words)}")
    stage.key("Enter")


def main(out: Path) -> None:
    """Walk through the demo, one picture a view."""
    missing = [package for program, package in NEEDED.items() if not shutil.which(program)]
    if missing:
        raise SystemExit(f"missing: apt-get install {' '.join(missing)}")
    out.mkdir(parents=True, exist_ok=True)
    move(out)
    level(out)
    shake(out)
    ready(out)
    filament(out)
    pieces(out)
    record(out)
    dialect(out)
    with tempfile.TemporaryDirectory(prefix="ublet-demo-") as folder:
        command = [sys.executable, "-m", "ublet", "demo", "--dir", folder, "--speed", "20"]
        stage = Stage(command)
        try:
            declare(stage, out)
            wire(stage, out)
            stage.key("NPage", "NPage", "NPage")
            stage.wait("if the hotend is")
            stage.key("Enter", "Enter")
            stage.wait("read the same room")
            stage.key("Tab", "Down")
            stage.wait("from room")
            stage.key("Enter", "Enter")
            stage.wait("recommended:")
            stage.shot(out / "hotend-choice.png")
            stage.key("k", "v")
            stage.wait("Wait until")
            stage.key("Enter")
            stage.wait("Verified")
            stage.key("C-s")
            stage.wait("together?")
            stage.key("Enter")
            stage.wait("settings saved")
            time.sleep(9)  # the notice goes by itself
            stage.key("l")
            stage.wait("newest first")
            stage.key("l", "F6", "g")
            stage.wait("one set is enough")
            stage.key("Down", "Down")
            stage.shot(out / "gain-sets-bone.png")
            stage.key("F8")
            stage.wait("HALTED")
            stage.key("Escape", "F6", "r", "Tab", "Down")
            stage.wait("Heats the bed to about")
            stage.key("Enter", "Enter")
            stage.wait("recommended:")
            stage.key("k", "Tab", "Down")
            stage.wait("what the board watches at the hotend")
            stage.key("Enter", "Enter")
            for number in range(3):
                stage.wait(("Pull the plug", "Bridge the two", "Cool the")[number])
                stage.key("Enter")
                stage.wait(("Plug the hot", "Take the bridge", "Let the")[number])
                if number == 2:
                    stage.shot(out / "guards.png")
                stage.key("Enter")
            stage.wait("Pull the heater")
            stage.key("Escape")
            stage.wait("Cancelled by you")
            stage.key("C-q")
        finally:
            stage.close()


if __name__ == "__main__":
    main(Path(sys.argv[1]))
