"""The help of the heater benches: why and how."""

from __future__ import annotations

from ublet.tui.frame.help import Help

HOTEND_HELP = Help(
    """\
    A hotend that overshoots burns the first millimetres of filament, and one that ripples prints bands. The gains of
    another machine do not fit yours: power, block, sock and fan decide.
    """,
    """\
    From room temperature the board heats at full power, then switches around the target by itself. Each cycle gives
    the block’s gain and delay. The first cycle after any change is discarded; when three agree
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
    A bed whose temperature cycles prints bands in step with it, and a warped first layer where it was tuned hot. It is
    slow: its gains are not those of a hotend.
    """,
    """\
    As for the hotend, without the fan: full power from room temperature, then the board switches around the target. A
    heat-up that will level off below the target is predicted early from its curve. Beside the gains stands on-off
    control, with the swing that the same model predicts for it: with a mains bed and a mechanical relay it may be what
    you want.
    """,
)
