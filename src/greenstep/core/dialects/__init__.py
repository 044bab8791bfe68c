"""Dialects: the protocols bootloaders speak, each one file behind one interface."""
