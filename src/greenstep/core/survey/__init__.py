"""Finding out what is on an unknown line: what is heard, at which rate, what answers to which lines."""
