"""How results are shown: to people as lines and tables, to programs as JSON. Commands share it."""
