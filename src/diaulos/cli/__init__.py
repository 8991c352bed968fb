"""The use cases from a shell. Documented in docs/cli.md."""
