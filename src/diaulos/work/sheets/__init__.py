"""Sheets: how something was made, and how it is set up again, as words, tables and drawings."""
