"""Write the reference pages from the declarations: ``reference.py FOLDER``."""

from __future__ import annotations

import sys
from collections.abc import Iterable
from itertools import groupby
from pathlib import Path

from ublet.core.catalogue import TRIALS
from ublet.core.dialect.acts import NEEDS, OF_BOARD, OF_PART, REQUESTS
from ublet.core.dialect.schema import DialectFile
from ublet.core.heat.curves import GENERIC
from ublet.core.machine.boards import BOARD_KEYS
from ublet.core.machine.modules import OPTIONAL, REQUIRED
from ublet.core.machine.outline import outline
from ublet.core.machine.schema import SETTINGS
from ublet.core.settings import Declaration, declarations
from ublet.session.library import DATA
from ublet.session.preferences import Preferences

MADE = "Made from the declarations by `make docs`; do not edit by hand."

MACHINE = f"""# The machine file

{MADE}

One TOML file declares the whole machine. It is made to be edited by hand as well as in the app: comments and
order survive, every write is atomic, and the previous file is kept as `NAME.previous`. `ublet check FILE` shows
every error and contradiction at once, with line, key, what was found, what is allowed and how to mend it.
`ublet new DIR --from PRESET` starts one (`ublet presets` lists them), `ublet diff A B` compares two,
`ublet import PART FILE --from OTHER` takes a part over.

Lengths count from the bed's front left corner; positive X is to the right, positive Y to the back, positive Z
opens the gap between nozzle and bed. `*` stands for a name that you choose: letters, digits and dashes. Settings
marked *board* go into the image and have four layers: file, image, stored, live. A stored value wins over the
image's until it is settled.

`axes.y` and `axes.z` have the same settings as `axes.x`. Parts marked *optional* may be left out.

"""

BOARD = f"""# Board files

{MADE}

A kind of board is a data file, so that another board needs no code. The shipped ones are in
`src/ublet/data/boards/`. Files of your own are read from `boards/` beside a machine file, and from `ublet/boards` in
your data folder; a board is known by its `name`. They are checked like machine files.

A socket stands at an edge, `at` a place along it (0 is the left or upper end). The board makes images of the
modules that it has a size for; a module without a size is not made for it.

"""

TRIAL_PAGE = f"""# Trials

{MADE} `ublet trials` lists the same.
"""

PREFERENCE_PAGE = f"""# Preferences and the log

{MADE}

What you prefer is kept in `ublet/preferences.toml` in the configuration folder (`$XDG_CONFIG_HOME`, usually
`~/.config`). `F7` in the app shows every preference and changes it; the file is made then, with a comment above each
key. Edit it by hand as you like: it is read when the app starts, your comments stay, and a value that is not allowed is
named and left alone.

What happens on the link and at the board, and every fault of ours, goes to `ublet/ublet.log` in the state folder
(`$XDG_STATE_HOME`, usually `~/.local/state`). It is begun anew at 500 kB; the three before it stay as `.1` to `.3`.

`ublet --install-completion` teaches your shell the commands and the names of the trials.

"""


DIALECT = f"""# Dialects: boards that speak another line language

{MADE}

Ublet serves a board that speaks [the line protocol](protocol.md). A board with a line language of its own is described
in a *dialect file*, without code: what ends a line, how one asks who is there, what holds a heater, how a temperature
looks. `ublet dialects` lists the known ones: those that ship, those in `dialects/` of your data folder
(`ublet/dialects`), those in `dialects/` beside a machine file. Two ship, of boards that we made up: *moss* in plain
words, *slate* with numbered, summed lines. No file for an existing product ships: who owns a board or writes its
firmware writes one from its documents.

| command | |
|---|---|
| `ublet dialect check FILE` | every error at once: line, what was found, what is allowed, how to mend it |
| `ublet talk --port URL [--dialect FILE] [--transcript OUT]` | the raw dialogue, to write a dialect beside it |
| `ublet dialect try FILE --port URL [--machine FILE] [--moves] [--heats]` | it is gone through at a board |
| `--dialect FILE` at `open` and `run` | work in it; `[board] dialect = "moss"` in the machine file does the same |
| `ublet board --scenario FILE --dialect FILE` | the simulated board speaks it: the same file backwards |

## Patterns

One text writes a line and reads it back: `hold {{heater}} at {{celsius:.1f}}` writes `hold hotend at 60.0`, and reads
it. A field is a name in braces. `{{mm_s*60}}` is a number that the board has 60 times as large (`/60`: a 60th);
`:.2f` writes two digits, `:d` whole numbers; `{{target_c|off}}` is a number, or the word `off` for none. `{{{{` and
`}}}}` are plain braces. A pattern must be readable in one way only: something stands between two fields (but for a
name of a known table and a number, as in `G1 {{axis}}{{mm}}`), after a number comes nothing that may belong to it,
and a text comes last. A field never gives back what it has taken, so that no line takes long to read; a pattern that
needs more is refused, with its name and the way out. Two patterns that one line fits are refused, too.

Parts have the names of the machine file; `[names.heater]`, `[names.axis]` and so on give the board's (`hotend = "A"`).
A motor is named as in `x.motors.a`, or `extruder.motor`.

## How it is spoken

- **One line at a time**, or as many as `waiting` says. The next goes out when the reply to the last has ended. A line
  that got lost is sent again, but for moves of a language without numbers: then the link ends, since nobody knows
  whether it was done. With numbers a board does no line twice, and answers a repeated one again. With several at once
  replies count in the order of their lines; where one is missing, all lines from there are sent again, and a board must
  keep its replies to the last `waiting` lines. What may be the answer to another line is asked for again.
- **Readings are asked for** ten times a second, as fast as the line allows; four times where no trial
  runs, nothing moves or heats and nothing else is asked. A reply that lacks a line which came
  before is asked for again: a part that is not spoken of is not one that is off. Without checksums a spoilt digit may
  make a value: a reading that jumps (10 °C, a place at rest, a start, a count of edges, a duty beyond 1) is asked for
  once more, and a setting that is not the one we know is read until it stays; arrays are read once.
- **Ends of motions** are seen in `moving`. There are no streams and no images over a dialect: trials that need them say
  so before anything moves, and *resonance* offers the printed tower.
- **Programs** are made here. With `[requests.line]` and a reading of `{{room}}` (how many lines more the board takes) a
  path is given ahead, with at most 0.6 s of it waiting, so that the board joins the lines at an even pace: such a board
  prints. A nudge, another speed, a hold or the end act behind what waits; a print that ends early lifts and parks.
  Without such lines every move is waited for, axis by axis, up first and down last: nothing is printed, and what needs
  two axes at once is not begun. `[requests.push]` pushes filament alone.
- **Touches** come by `[requests.touch]`, and the place is read where it stands. Without it the probe's input is
  watched: down in steps of 0.2 mm, again from 0.1 mm above in steps of 0.05, then of 0.005; 5 to 20 s a touch, as
  exact as one at the lowest speed. How touches depend on speed is then no question.
- **Arrays** (a mesh, the train of a shaper) go row by row, by lines with `{{row}}` and `{{rows}}`.
- **Relay.** Without `[requests.relay]` the host switches by `[requests.drive]` at each reading: some 0.1 s later than a
  board would, which counts as delay of the plant.
- **Settings** of which the language does not speak stay as the machine file says; what is kept of them is saved there.
  `[layers] store` stores all that is live, so what is live and not saved is put back for that moment.

## Safety

- More than the machine file's maximum is not sent, nor a setting outside its range; a reading that no machine has
  (1500 °C, a duty of 2) ends the link.
- What can be begun must be ended: a dialect with `hold` needs `off`, one with `move` needs `stop`; every one needs a
  halt.
- `[alive] window_s` says after how long a silence the board switches off by itself. It is *tried*: `ublet dialect try
  --heats` warms a heater to 50 °C, says nothing, and looks; so does the guards' drill. Until the drill was done in the
  board's language, nothing above 60 °C is held. Where a board stays on, that needs your word for a session
  (`--watched`), and nothing but a trial holds it.
- `[guards]` says which guards the board keeps by itself. For the others Ublet watches the readings (a sensor of a
  driven heater that does not read for 0.5 s, a temperature above the maximum, no rise at full power, drift) and halts
  the board; *guards* and *port and link* name them. While Ublet does not run, or its line is cut, nobody watches.

"""


def rows(declared: Iterable[Declaration], board: bool) -> str:
    """A Markdown table of declarations."""
    head = "| setting | allowed | when left out | " + ("layers | " if board else "") + "what it is |\n"
    lines = [head + "|---|---|---|---|" + ("---|" if board else "")]
    for item in declared:
        default = "must be given" if item.required else "–" if item.default in (None, "") else f"{item.default}"
        layer = ("board | " if item.board else "file | ") if board else ""
        key = item.path.rpartition(".")[2]
        lines.append(f"| `{key}` | {item.allowed()} | {default} | {layer}{item.help} |")
    return "\n".join(lines) + "\n"


def machine_file() -> str:
    """The reference of the machine file, part by part."""
    optional = {node.path for node in outline({}) if node.sort == "optional"}
    page = MACHINE
    for part, items in groupby(SETTINGS, key=lambda item: item.path.rpartition(".")[0]):
        if not part.startswith(("axes.y", "axes.z")):
            page += f"## `[{part}]`{' (optional)' if part in optional else ''}\n\n{rows(items, True)}\n"
    page += "## Generic curves\n\n| name | at 25 °C | beta |\n|---|---|---|\n"
    page += "".join(f"| `{name}` | {r25:g} Ω | {beta:g} K |\n" for name, (r25, beta) in GENERIC.items())
    return page


def board_file() -> str:
    """The reference of board files."""
    page = BOARD
    for part, items in groupby(BOARD_KEYS, key=lambda item: item.path.rpartition(".")[0]):
        page += f"## {f'`[{part}]`' if part else 'The board'}\n\n{rows(items, False)}\n"
    optional = ", ".join(f"`{name}`" for name, _ in OPTIONAL)
    needed = ", ".join(f"`{name}`" for name in REQUIRED)
    page += f"## Modules\n\nEvery image holds {needed} and `kinematics-` with the machine's kinematics.\n"
    page += f"Optional: {optional}.\n\n"
    example = (DATA / "boards" / "alder-4.toml").read_text(encoding="utf-8")
    return page + f"## Example\n\n```toml\n{example}```\n"


def dialect_file() -> str:
    """The reference of dialect files, with the plain one as an example."""
    page = DIALECT
    for part, items in groupby(DialectFile.declared(), key=lambda item: item.path.rpartition(".")[0]):
        page += f"## {f'`[{part}]`' if part else 'The language'}\n\n{rows(items, False)}\n"
        if part == "requests.*":
            page += "| request | fields | its answer may have | what it does |\n|---|---|---|---|\n"
            for name, kind in REQUESTS.items():
                fields, answer = (" ".join(f"`{{{one}}}`" for one in said) for said in (kind.fields, kind.answer))
                page += f"| `{name}` | {fields or '–'} | {answer or '–'} | {kind.help} |\n"
            page += "\nWithout these a capability is lacking: "
            needs = (f"*{what}* needs {', '.join(sorted((*asks, *looks)))}" for what, (asks, looks) in NEEDS.items())
            page += f"{'; '.join(needs)}.\n\n"
        elif part == "readings.*":
            page += "| of | fields |\n|---|---|\n"
            for part_name, said in (*OF_PART.items(), ("the board", OF_BOARD)):
                head = f"`{{{part_name}}}`" if part_name in OF_PART else part_name
                page += f"| {head} | {' '.join(f'`{{{one}}}`' for one in sorted(said))} |\n"
            page += "\n"
    example = (DATA / "dialects" / "moss.toml").read_text(encoding="utf-8")
    return page + f"## A worked example\n\n```toml\n{example}```\n"


def trials() -> str:
    """The reference of trials and their parameters."""
    page = TRIAL_PAGE
    for spec in TRIALS.values():
        page += f"\n## `{spec.name}`\n\nStation: {spec.station}. {spec.summary}\n\n{rows(spec.declared(), False)}"
        told = [f"`{one.name}` ({', '.join(one.columns)})" for one in spec.streams]
        page += f"\nRecords {', '.join(told)}.\n"
    return page


def preferences() -> str:
    """The reference of the preferences."""
    page = PREFERENCE_PAGE
    return page + rows(tuple(declarations(Preferences)), False)


def conformance() -> str:
    """Every clause of the protocol that a board can be checked by."""
    from ublet.link.conformance import CLAUSES

    lines = [
        "# Conformance with the line protocol",
        "",
        "`ublet conform --port URL [--json]` checks a board clause by clause (exit code 1 when it breaks one). It",
        "warms a heater for a few seconds and turns a motor by up to 10 mm. What the clauses mean stands in",
        "[protocol.md](protocol.md). Made by `make docs`.",
        "",
        "| clause | |",
        "|---|---|",
        *(f"| {each.number} | {each.words} |" for each in CLAUSES),
    ]
    return "\n".join(lines) + "\n"


PAGES = {
    "machine-file.md": machine_file,
    "board-file.md": board_file,
    "dialect.md": dialect_file,
    "trials.md": trials,
    "preferences.md": preferences,
    "conformance.md": conformance,
}
"""The pages and what makes them."""


if __name__ == "__main__":
    for name, make in PAGES.items():
        (Path(sys.argv[1]) / name).write_text(make(), encoding="utf-8")
