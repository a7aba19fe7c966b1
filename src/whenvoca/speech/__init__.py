"""Plain English to a request: pure functions of text, moment, zone, agenda and earlier turns. No model, no service."""
