"""Making the one message that a person gets: its facts, its words, its files."""
