"""The long run: places, clock and servers watched, workflows paused and resumed."""
