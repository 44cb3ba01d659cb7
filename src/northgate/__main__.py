"""`python -m northgate` is the command line."""

from northgate.cli import main

main()
