"""The event model, recurrence, iCalendar in and out, free and busy. Pure: no files, no clock."""
