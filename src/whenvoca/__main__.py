"""`python -m whenvoca`."""

from whenvoca.cli.main import main

main()
