"""Lines to servers: what is asked of the process that speaks with one, and how it is asked."""
