"""``python -m cairnwind`` is the command line."""

from cairnwind.cli import main

main()
