"""The process that speaks with a server: its own for each place, so that one that hangs can be ended, and so
that its libraries are in no other."""
