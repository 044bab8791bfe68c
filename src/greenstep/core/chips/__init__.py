"""Part records: what the chip makers' documents say about each chip, as data, and how to find one."""
