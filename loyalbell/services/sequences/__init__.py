"""What a person or the clock asks of sequences: writing and publishing them, letting people in, ringing."""
