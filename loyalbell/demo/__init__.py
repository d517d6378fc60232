"""Otterby Pet House: a made-up shop, groom room, clinic and café, with its customers."""
