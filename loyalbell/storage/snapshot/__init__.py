"""The history of the book as columns, read from it and kept in memory."""
