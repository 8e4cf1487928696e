"""The probe: touching, where it sits, how well and how fast it repeats."""
