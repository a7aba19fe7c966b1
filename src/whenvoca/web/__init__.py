"""The door on the web: forms and hooks, served while `watch` runs."""
