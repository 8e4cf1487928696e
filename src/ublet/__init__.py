"""Ublet: a full-screen terminal bench for bringing a 3D printer's motion firmware to life."""

__version__ = "0.1.0"
