"""How each part of the ledger is read from the book: whole, or the rows of a range of keys."""
