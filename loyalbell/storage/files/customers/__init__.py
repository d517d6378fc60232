"""Bringing customers in."""
