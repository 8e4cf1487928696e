"""The simulated board: its own process, physics per room, scenarios, a scripted builder."""
