"""The ledger: trials, readings and settings over time, in SQLite."""
