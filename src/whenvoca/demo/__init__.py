"""The Larkmoor workspace, packaged: a made-up observatory on a made-up island."""
