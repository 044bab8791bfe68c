"""The real world: serial ports found, opened and read."""
