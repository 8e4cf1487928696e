"""Benches of the leg Extrude."""
