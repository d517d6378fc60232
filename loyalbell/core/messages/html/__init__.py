"""HTML of one's own in a mail: what is kept, what works in mail programs, what is hard to read."""
