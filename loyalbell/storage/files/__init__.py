"""Files in and out of the book."""
