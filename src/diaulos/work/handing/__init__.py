"""Handing over: stems for any recorder, a whole session in one file."""
