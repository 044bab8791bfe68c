"""Figures for people and reports, by Matplotlib; loaded only when one is saved."""
