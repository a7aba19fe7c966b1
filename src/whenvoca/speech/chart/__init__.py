"""Typed pieces of a text: days, times, lengths, repetitions and reminders, all that may be read, overlapping."""
