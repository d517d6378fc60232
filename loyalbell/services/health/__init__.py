"""How the program itself is: whether it works, what waits, how much room there is."""
