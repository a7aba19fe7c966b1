"""What workflows see of events, tasks and messages: their fields, typed."""
