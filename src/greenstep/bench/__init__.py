"""Simulated boards: chips written from the chip makers' documents, on a line that models bit time, parity, the
adapter's turnaround and the chip's busy times. None of it is built on the dialects' code."""
