"""Commands on machine files: presets, new, check, compare, import, images."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from ublet.cli.base import (
    DECLARE,
    GOOD,
    NO,
    USAGE,
    JsonOption,
    app,
    friendly_errors,
    print_json,
    say,
    stop,
)


@app.command(rich_help_panel=DECLARE, short_help="Machine files that `new` can start from.")
def presets() -> None:
    """The machine files that `new` can start from."""
    from ublet.session.library import DATA

    for path in sorted((DATA / "machines").glob("*.toml")):
        say(f"{path.stem:12} {path.read_text(encoding='utf-8').splitlines()[0].lstrip('# ')}")


@app.command(rich_help_panel=DECLARE, short_help="A commented machine file to start from.")
def new(dir: Path, preset: Annotated[str, typer.Option("--from", help="A preset's name.")] = "tern-280") -> None:
    """A commented machine file to start from."""
    from ublet.core.machine.edit import edited
    from ublet.session.library import DATA

    source = DATA / "machines" / f"{preset}.toml"
    known = ", ".join(sorted(path.stem for path in source.parent.glob("*.toml")))
    if preset not in known.split(", "):
        raise stop(USAGE, f"--from {preset}: no such preset; known: {known}")
    target = dir / "machine.toml"
    with friendly_errors():
        if target.exists():
            raise stop(USAGE, f"{target} is there already; it was left as it is")
        dir.mkdir(parents=True, exist_ok=True)
        target.write_text(edited(source.read_text(encoding="utf-8"), {"machine.preset": preset}), encoding="utf-8")
    say(f"{target}: edit it, then `ublet check {target}` and `ublet open {target} --port …`")


@app.command(rich_help_panel=DECLARE, short_help="Every error and warning of a machine file.")
def check(file: Path, as_json: JsonOption = False) -> None:
    """All errors and warnings of a machine file at once."""
    from ublet.session.checking import check_report

    with friendly_errors():
        text, good = check_report(file, as_json)
    say(text)
    raise typer.Exit(GOOD if good else NO)


@app.command(rich_help_panel=DECLARE, short_help="Settings that differ between two files.")
def diff(first: Path, second: Path, as_json: JsonOption = False) -> None:
    """What differs between two machine files, setting by setting; exit code 1 when something does."""
    from dataclasses import asdict

    from ublet.core.machine.compare import differences
    from ublet.core.machine.schema import SETTINGS
    from ublet.core.typed import shown_after, shown_value
    from ublet.session.document import Document

    with friendly_errors():
        changed = differences(Document(first).values, Document(second).values)
    if as_json:
        listed = [
            {**asdict(item), "unit": declared.unit if (declared := SETTINGS.find(item.path)) else ""}
            for item in changed
        ]
        print_json({"first": str(first), "second": str(second), "differences": listed})
    else:
        for item in changed:
            unit = declared.unit if (declared := SETTINGS.find(item.path)) else ""
            after = shown_after(item.before, item.after)
            say(f"{item.path:40} {shown_value(item.before):>14} → {after} {unit}".rstrip())
        if not changed:
            say("no difference")
    raise typer.Exit(NO if changed else GOOD)


@app.command(rich_help_panel=DECLARE, short_help="Parts whose numbers can be imported.")
def parts(
    file: Annotated[Path | None, typer.Argument(help="A machine file; its own folder is looked into.")] = None,
    as_json: JsonOption = False,
) -> None:
    """Parts that `import TABLE FILE --from NAME` can take over: their numbers, and where these come from."""
    from ublet.session.parts import parts_for

    known = parts_for(file.parent if file is not None else Path())
    for words in known.broken:
        say(f"ublet: left out: {words}", err=True)
    if as_json:
        print_json(
            {
                stem: {
                    "of": one.part.of,
                    "name": one.part.name,
                    "source": one.part.source,
                    "settings": dict(one.part.settings),
                    "uncertain": dict(one.part.uncertain),
                    "file": str(one.path),
                }
                for stem, one in known.known.items()
            }
        )
        return
    for stem, one in known.known.items():
        say(f"{stem:18} {one.part.of:15} {one.part.name}: {one.words}")


@app.command(rich_help_panel=DECLARE, short_help="Probe mounts to import.")
def mounts(
    file: Annotated[Path | None, typer.Argument(help="A machine file; its own folder is looked into.")] = None,
) -> None:
    """Mounts of probes that `import probe.part FILE --from NAME` can take over."""
    from ublet.session.parts import parts_for

    known = parts_for(file.parent if file is not None else Path())
    for words in known.broken:
        say(f"ublet: left out: {words}", err=True)
    for stem, one in known.known.items():
        if one.part.of == "probe mount":
            say(f"{stem:18} {one.part.name:18} {one.words}")


@app.command("import", rich_help_panel=DECLARE, short_help="Take a part over, of a file or a known one.")
def import_(
    part: Annotated[str, typer.Argument(help="Path of a part, for example probe or heaters.bed.")],
    file: Annotated[Path, typer.Argument(help="Machine file that gets it.")],
    source: Annotated[Path, typer.Option("--from", help="Machine file that has it, or the name of a part.")],
) -> None:
    """Take a part of another machine file over, comments and all, or the numbers of a known one; a mount's offset
    counts as the probe's until it is measured.
    """
    from ublet.core.machine.edit import EditError
    from ublet.core.machine.part_files import PartFileError
    from ublet.core.typed import shown_after, shown_value
    from ublet.session.copying import enter_copied
    from ublet.session.document import Document, DocumentError
    from ublet.session.draft import Draft
    from ublet.session.parts import parts_for, report_happened, take_part
    from ublet.session.session import beside_ledger

    known = parts_for(file.parent).named(str(source)) if not source.exists() else None
    with friendly_errors():
        draft = Draft(Document(file))
        try:
            if known is not None:
                take_part(draft, known, part.removesuffix(".part") if known.part.of == "probe mount" else part)
            else:
                draft.take(source, part)
        except (EditError, PartFileError) as error:
            raise DocumentError(f"{source}: {error}") from error
        changes = draft.changes()
        draft.write()
        with beside_ledger(file) as session:
            if session is not None:
                report_happened(session.ledger, (change.path for change in changes))
                if known is None:
                    enter_copied(session.ledger, changes, source)
    for change in changes:
        say(f"{change.path}: {shown_value(change.before)} → {shown_after(change.before, change.after)}")
    say(f"{file}: {len(changes)} settings changed; the former file is {file.name}.previous")


@app.command(rich_help_panel=DECLARE, short_help="Build the image of a machine file.")
def image(
    file: Path,
    out: Annotated[Path | None, typer.Option("-o", "--out", help="Write the image's bytes there.")] = None,
    as_json: JsonOption = False,
) -> None:
    """Build the image of a machine file and show what it takes; exit code 1 when it does not fit."""
    from dataclasses import asdict

    from ublet.session.document import Document

    with friendly_errors():
        built, plan = Document(file).image()
        if out is not None:
            out.write_bytes(built.data)
    report = {
        "file": str(file),
        "board": built.head.board,
        "firmware": built.head.version,
        "digest": built.digest,
        "bytes": len(built.data),
        "slot_bytes": plan.slot_bytes,
        "overflow_bytes": plan.overflow_bytes,
        "modules": [asdict(module) for module in plan.modules],
        "would_free": [[module.name for module in way] for way in plan.would_free()],
    }
    if as_json:
        print_json(report)
    else:
        say(f"{len(built.data):,} of {plan.slot_bytes:,} bytes for {built.head.board}, digest {built.digest}")
        for module in plan.modules:
            say(f"  {'in ' if module.included else 'out'}  {module.name:22} {module.bytes:>9,}  {module.why}")
        if plan.overflow_bytes:
            ways = " or ".join(" + ".join(module.name for module in way) for way in plan.would_free())
            say(f"overflows by {plan.overflow_bytes:,} bytes; leave out {ways or 'more than is optional'}")
    raise typer.Exit(NO if plan.overflow_bytes else GOOD)
