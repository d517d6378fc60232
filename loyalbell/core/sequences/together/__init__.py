"""Everybody of a rehearsal at once: people at the same step of whom the engine would learn the same are moved
on together, by one look at one of them.

No step is written twice. ``questions`` writes down what a look asks about a person, ``answers`` gives the
answers about many at once, ``looks`` moves on together those of whom all answers are the same, ``rounds``
plays everybody through, one thing of each at a time.
"""
