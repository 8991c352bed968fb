"""Files: audio, Broadcast Wave and the session folder. The only place for soundfile."""
