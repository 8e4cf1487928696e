"""A coil probe: its calibration curve, what its temperature adds, scans without touching."""
