"""The same runs, read for real and written nowhere."""
