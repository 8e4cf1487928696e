"""Ublet: a full-screen terminal bench for bringing a 3D printer's motion firmware to life."""

import os

__version__ = "0.1.0"

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")  # read when numpy is first imported, so it stands here
"""Our matrices are small: a second thread of numpy's linear algebra takes half as much processor again, and no less
time.
"""
