"""Measurements: what must hold and is not for a test, because it takes time or measures it."""
