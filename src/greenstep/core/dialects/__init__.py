"""Dialects: the protocols that bootloaders speak, each in its own file behind one interface."""
