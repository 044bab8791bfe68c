"""What a program can do with boards: the room between the core and the command, without click or rich."""
