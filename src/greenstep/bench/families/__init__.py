"""Simulated chips that bring their boards: one file per family, found by `boards.py`."""
