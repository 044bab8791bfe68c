"""The command `greenstep`: one file a command, loaded when it is called."""
