"""Places: one folder a kind, in each one file a backing of the face in ``engine/faces.py``."""
