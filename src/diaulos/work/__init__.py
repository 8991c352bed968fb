"""Use cases, and the protocols of what they need from outside."""
