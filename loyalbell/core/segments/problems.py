"""What can be wrong with a rule."""


class RuleProblem(ValueError):
    """A rule that cannot be read, said in a sentence that names the line."""
