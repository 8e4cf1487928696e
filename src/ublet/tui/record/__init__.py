"""The record: the ledger, and what happened at the machine."""
