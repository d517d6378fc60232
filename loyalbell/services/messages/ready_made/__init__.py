"""Messages to start from, by what they are for."""
