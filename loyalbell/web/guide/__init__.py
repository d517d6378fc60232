"""The guide from a shop’s files to its first win-back."""
