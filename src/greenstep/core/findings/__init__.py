"""Findings: from what was observed to a cause in plain words, its evidence, and what to try.

Plain data in, plain data out: each file holds the rules for one kind of situation; `diagnosis.py` asks them in order,
and is loaded only when something has to be explained.
"""
