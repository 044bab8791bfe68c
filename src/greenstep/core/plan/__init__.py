"""The plan of an upload: from images, the part and its dialect to erase units and write blocks. Anything that would
make it wrong is refused."""
