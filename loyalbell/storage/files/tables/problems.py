"""What is wrong with a file as a whole."""


class FileProblem(Exception):
    """A file that cannot be read at all, said in words for the person who chose it."""
