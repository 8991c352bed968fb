"""Rigs: looked at, planned, solved, played, checked against reality, calibrated."""
