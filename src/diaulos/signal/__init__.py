"""Arrays in, results out: measurement and processing of audio. No files, no clock."""
