"""All tests: ``unit`` mirrors the packages of the program, ``scenario`` drives the whole of it, ``property``
plays lives of a store. ``support`` holds what they build on."""

import os

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
