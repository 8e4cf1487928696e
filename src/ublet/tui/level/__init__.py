"""Benches of the leg Level."""
