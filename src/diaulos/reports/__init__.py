"""Reports: a session as text. Sheets come with a later issue."""
