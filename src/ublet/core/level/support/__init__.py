"""What carries the bed: lead screws, corner screws and their springs; and when it stands still."""
