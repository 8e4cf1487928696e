"""The declared machine: schema, boards, reading a machine file's text, cross-checks."""
