"""Benches of the leg Shake."""
