"""Use cases in rooms by what they know, and the protocols that they need from outside."""
