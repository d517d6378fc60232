"""HTML of one's own in a mail: what of it is kept, what of it works in mail programs, what is hard to read."""
