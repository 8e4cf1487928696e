"""Benches that declare the machine: editor, wiring, modules, writing, the port."""
