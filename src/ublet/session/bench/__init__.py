"""The bench of a linked board: what recipes talk to, facet by facet."""
