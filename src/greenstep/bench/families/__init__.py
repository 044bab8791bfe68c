"""Simulated chips that bring their boards: a file a family, found by `boards.py`."""
