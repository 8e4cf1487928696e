"""How the machine rings: the recipes of the leg Shake."""
