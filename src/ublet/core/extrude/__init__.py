"""Filament: the recipes of the leg Extrude and what they compute."""
