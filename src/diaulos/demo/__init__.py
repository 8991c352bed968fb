"""The demo session: the trio Saltmarsh at the Boathouse, played by plucked-string models."""
