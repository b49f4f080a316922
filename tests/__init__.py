"""All tests: ``unit`` mirrors the packages of the program, ``scenario`` drives the whole of it, ``property``
plays lives of a store. ``support`` holds what they build on."""

import os

import hypothesis

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
hypothesis.settings.register_profile(
    "steady", deadline=None, suppress_health_check=list(hypothesis.HealthCheck), derandomize=True
)
hypothesis.settings.load_profile("steady")
