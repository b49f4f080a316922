"""Stand-in servers on loopback, with logins that are thrown away."""
