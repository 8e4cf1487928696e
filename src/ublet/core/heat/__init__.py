"""Heat: sensor curves, the control law, plant models, tuning rules, predictions and the heat trials."""
