"""Instruments that draw: charts, maps, sheets, strips of cells."""
