"""Computation: images, chips, dialects, plan, climb and findings. No interface, no port, no clock."""
