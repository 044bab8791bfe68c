"""What baud rates a chip's clock can make, and what that means for the line."""
