"""What is kept on disk: the project file and the images it names."""
