"""Hooks: addresses that other systems call."""
