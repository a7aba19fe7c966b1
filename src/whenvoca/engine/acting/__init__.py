"""A checked workflow made ready to act: its values compiled, its steps given a stage."""
