"""The bed: lead screws, corner screws, springs, temperature."""
