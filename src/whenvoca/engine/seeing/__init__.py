"""What changed at the places, what the clock says, and which workflows that is an occurrence for."""
