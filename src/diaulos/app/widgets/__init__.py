"""Controls shared by the views."""
