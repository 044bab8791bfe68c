"""Many boards: what each has for itself, and the result of each and of all."""
