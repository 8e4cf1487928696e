"""The end of the leg Level by keyboard: a mesh is kept, a first layer nudged, stopped, folded in; no nudge is lost."""

from __future__ import annotations

from pathlib import Path

from tests.tui.inside import Inside
from tests.tui.test_level import lifts_looked_at, to


def test_a_mesh_is_kept_and_a_first_layer_is_nudged_judged_and_folded_into_the_offset(tmp_path: Path) -> None:
    screen = Inside(tmp_path, mended=True)
    try:
        screen.wait("no errors")
        to(screen, "bed mesh")
        screen.wait("7 x 7 points")
        screen.key("p")
        screen.type("columns=3 rows=3")
        screen.key("Enter", "Enter")
        lifts_looked_at(screen)
        screen.wait("from lowest to highest")
        screen.key("k")
        screen.wait("Live on the board")
        screen.key("m")
        shown = screen.wait("A print would load")
        assert "the sheet, 60 °C" in shown and "◆ live" in shown and "● for a print" in shown
        screen.key("u")
        screen.wait("is live; lost at power-off")
        screen.key("Escape")
        to(screen, "first layer")
        shown = screen.wait("5 places")
        assert "as the offset has it" in shown and "nearer to the bed" in shown
        screen.key("s")
        shown = screen.wait("A print begins")
        assert "load the mesh “the sheet, 60 °C”" in shown
        screen.key("Escape")
        screen.gone("A print begins")
        screen.key("Enter")
        screen.wait("wipe it")
        screen.key("Enter")
        screen.wait("printing now: middle")
        screen.key("5")
        screen.wait(", held")
        screen.key("1")
        screen.wait("0.05 mm nearer to the bed")
        screen.key("3")
        screen.wait("0.04 mm nearer to the bed")
        screen.key("F8")
        screen.wait("HALTED")
        screen.key("r")
        shown = screen.wait("keeps it on the live board")
        before = float(shown.split("probe.offset_z_mm")[1].split()[0])
        assert "probe.offset_z_mm" in shown and f"{before - 0.04:g}" in shown, "what was nudged is offered after a HALT"
        screen.key("k")
        screen.wait("Live on the board")
        screen.key("Enter")
        screen.wait("wipe it")
        screen.key("Enter")
        screen.wait("Feel the last lines")
        screen.type("9 9")
        assert "verdicts for 5 places" in screen.wait("verdicts for 5 places")
        screen.key(*["BSpace"] * 3)
        screen.type("all 2")
        screen.key("Enter")
        shown = screen.wait("✓ good at")
        assert "the offset stays" in shown or "▸ leave it" in shown
    finally:
        screen.close()


def test_a_nudge_without_a_probe_goes_into_the_mesh_and_the_rest_can_be_read_at_100_by_30(tmp_path: Path) -> None:
    screen = Inside(tmp_path, "wren-180", size=(100, 30))
    try:
        screen.wait("no errors")
        to(screen, "first layer")
        screen.wait("5 places")
        screen.key("s")
        assert "load no mesh" in screen.wait("A print begins")
        screen.key("Escape")
        screen.key("Enter")
        screen.wait("wipe it")
        screen.key("Enter")
        screen.wait("nearer 0.05")
        screen.key("5")
        screen.wait(", held")
        screen.key("4")
        screen.wait("+0.05 mm")
        screen.key("Escape")
        shown = screen.wait("keeps it on the live board")
        assert "0.050 mm further from the bed" in " ".join(shown.split()) and shown.count("Cancelled by you") == 1
    finally:
        screen.close()
