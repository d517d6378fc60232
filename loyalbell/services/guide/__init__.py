"""The way of a new shop from its files to its first win-back."""
