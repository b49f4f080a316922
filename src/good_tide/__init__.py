"""Good Tide: deduplicated, encrypted point-in-time snapshots of user folders, and a timeline to restore
from."""

__version__ = "0.1.0"
