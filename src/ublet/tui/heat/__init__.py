"""Benches of heat: sensors, pairing, fans, control, guards, temperatures, soak."""
