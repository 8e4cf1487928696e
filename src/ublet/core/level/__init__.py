"""Levelling: lifts, screws, the probe and the nozzle over the bed."""
