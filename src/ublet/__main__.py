"""``python -m ublet``."""

from ublet.cli import main

main()
