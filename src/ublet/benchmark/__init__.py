"""``ublet bench``: speed beside plain references in the same run, and the accuracy of the trials."""
