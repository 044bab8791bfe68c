"""Computation: images, chips, dialects, plan, engine and findings. No interface, no port, no clock."""
