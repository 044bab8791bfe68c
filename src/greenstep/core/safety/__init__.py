"""What comes from outside or must not get out: files, texts and peers that may be hostile, and secrets."""
