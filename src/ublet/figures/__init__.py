"""SVG and PDF of records: the one place that imports matplotlib."""
