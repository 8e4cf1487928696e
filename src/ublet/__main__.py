"""``python -m ublet``."""

from ublet.entry import main

main()
