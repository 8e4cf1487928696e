"""The full-screen app: frame, one bench a kind of station, widgets, themes."""

import os

os.environ.setdefault("TEXTUAL_FPS", "120")  # what is typed is painted in the second frame after the key
