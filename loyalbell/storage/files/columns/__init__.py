"""What the columns of a file mean, and how its cells are read."""
