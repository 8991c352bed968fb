"""The Takes view: level windows of the armed tracks, takes at the right."""
