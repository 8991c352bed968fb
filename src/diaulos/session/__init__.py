"""The document: one immutable tree, edits from session to session, and its history."""
