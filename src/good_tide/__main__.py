"""``python -m good_tide``."""

from good_tide.cli.main import main

main()
