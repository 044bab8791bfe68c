"""The resident loaders that come with this tool: their built images, and how one is made fit for a board.

`loaders/` in the project has their sources; docs/doorstep.md is what they speak.
"""
