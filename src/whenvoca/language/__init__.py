"""The workflow language: text to tree to checked workflow; tidy layout; faults with their place.

It knows values and the definitions of steps and triggers that it is given; it knows no place.
"""
