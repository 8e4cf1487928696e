"""What every station's bench has in common: needs, questions, settlement, and the words around a trial."""
