"""The full-screen app: frame, one bench a room, widgets, themes."""
