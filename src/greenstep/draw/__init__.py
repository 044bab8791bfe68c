"""Figures for people and reports, by Matplotlib; loaded only where one is to be saved."""
