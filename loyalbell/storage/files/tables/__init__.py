"""Any file that holds a table: found out how it is written, and read row by row."""
