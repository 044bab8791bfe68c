"""Finding out what is on a line that nothing is known of: what is heard, at which rate, who answers to which
lines."""
