"""A recording of the line: kept as a Value Change Dump (IEEE 1364), read back, and explained."""
