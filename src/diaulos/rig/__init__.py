"""Devices, ports and cables; the courses through them; their levels; the bench."""
