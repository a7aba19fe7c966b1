"""Places: one folder a kind, each place a backing of a protocol in ``engine/place_protocols.py``."""
