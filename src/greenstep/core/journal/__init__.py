"""What the journal keeps of a run."""
