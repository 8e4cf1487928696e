"""What stands around a board: plants, carriages, switches, scenarios and their truth, hands, a scripted builder."""
