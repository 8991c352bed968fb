"""The trainer: differences made on purpose, heard, and told with their figures."""
