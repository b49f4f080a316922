"""``python -m good_tide``."""

from good_tide.start import main

main()
