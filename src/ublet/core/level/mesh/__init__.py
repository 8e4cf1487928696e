"""The mesh: measured, judged, live; and the first layer that proves it."""
