"""Computation only: no files, sockets, clocks, prints or interface."""
