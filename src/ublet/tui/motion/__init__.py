"""Benches of motion: inputs, motors, directions, homing, travel, lengths, limits."""
