"""The noise hunt: where a hum, a whine or a hiss comes from, found by one test after another."""
