"""The ladder: image, port, enter, sync, chip, compare, erase, write, verify, start; each step on evidence."""
