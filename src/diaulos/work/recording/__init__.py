"""Recording: all armed tracks at once, on the same sample, and nothing lost."""
