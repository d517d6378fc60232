"""Random small worlds in which a shop sends, with an oracle written from the rules of the job alone."""
