"""Over months: what was measured of one unit in many sessions, and what changed."""
